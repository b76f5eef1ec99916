"""Elixir's requirements (hexdocs, `Version`): `~> 1.14`, `>= 1.0.0 and < 2.0.0`, `or`; pre-releases are versions."""

import re

from dokimon.core.expressions import expression
from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.languages.comparing import compare, dotted_label, next_at
from dokimon.core.versions.orders import semver
from dokimon.core.versions.orders.semver import BUILD, PRE_RELEASE, SEMVER
from dokimon.core.versions.sets import ALL, NONE, VersionSet, before, between

_N = r"(0|[1-9][0-9]*)"
_TERM = expression(rf"\s*(==|!=|>=|<=|~>|>|<|!)?\s*{_N}\.{_N}(?:\.{_N})?(?:-({PRE_RELEASE}))?(?:\+{BUILD})?\s*")


def _term(text: str, whole: str, offset: int) -> VersionSet:
    found = _TERM.fullmatch(text)
    position = offset + len(text) - len(text.lstrip())
    if not found:
        raise VersionFault(whole, position, "is not a requirement as Elixir writes it")
    operator, numbers = found[1] or "==", tuple(int(n) for n in found.groups()[1:4] if n)
    if len(numbers) == 2 and operator != "~>":
        raise VersionFault(whole, position, "needs all three numbers; only ~> may do with two")
    label = dotted_label((*numbers, 0)[:3]) + (f"-{found[5]}" if found[5] else "")
    key = _key(numbers, found[5] or "")
    if operator != "~>":
        return compare("!=" if operator == "!" else operator, key, label)
    following = next_at(numbers, len(numbers) - 2)
    high = before(_key(following, "0"), dotted_label(following))
    return between(before(key, label), high)


def _key(numbers: tuple[int, ...], pre_release: str) -> semver.Key:
    major, minor, patch = (*numbers, 0, 0)[:3]
    return semver.key_of(major, minor, patch, pre_release)


def compile(text: str) -> Constraint:
    """Compile a requirement. Raises `VersionFault`."""
    versions, offset = NONE, 0
    for alternative in re.split(r"(\bor\b)", text):
        if alternative != "or":
            joined, inner = ALL, offset
            for term in re.split(r"(\band\b)", alternative):
                joined = joined if term == "and" else joined & _term(term, text, inner)
                inner += len(term)
            versions |= joined
        offset += len(alternative)
    return Constraint(language="elixir", text=text, order=SEMVER, versions=versions)
