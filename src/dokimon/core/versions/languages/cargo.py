"""Cargo's version requirements (The Cargo Book, "Specifying Dependencies"): without an operator, a caret is meant.

Pre-releases are accepted only where a comparator names one of the same three numbers; the version set is the plain
intervals, which also hold the others between the ends.
"""

from __future__ import annotations

from dokimon.core.expressions import expression
from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.languages.comparing import breaking_position, compare, dotted_label, next_at
from dokimon.core.versions.orders import semver
from dokimon.core.versions.orders.semver import BUILD, PRE_RELEASE, SEMVER, Key
from dokimon.core.versions.sets import ALL, VersionSet, before, between

_N = r"(0|[1-9][0-9]*)"
_TERM = expression(rf"\s*+(\^|~|>=|<=|>|<|=)?\s*+{_N}(?:\.{_N}(?:\.{_N}(?:-({PRE_RELEASE}))?(?:\+{BUILD})?)?)?\s*")
_WILDCARD = expression(rf"\s*+(=)?\s*+(?:{_N}(?:\.{_N})?\.)?[*xX](?:\.[*xX])*\s*")


def _key(numbers: tuple[int, ...], pre_release: str = "") -> tuple[Key, str]:
    major, minor, patch = (*numbers, 0, 0)[:3]
    label = dotted_label((major, minor, patch)) + (f"-{pre_release}" if pre_release else "")
    return semver.key_of(major, minor, patch, pre_release), label


def _block(numbers: tuple[int, ...], position: int, pre_release: str = "") -> VersionSet:
    return between(before(*_key(numbers, pre_release)), before(*_key(next_at(numbers, position), "0")))


def _term(operator: str, numbers: tuple[int, ...], pre_release: str) -> VersionSet:
    if operator in ("", "^"):
        return _block(numbers, breaking_position(numbers), pre_release)
    if operator == "~":
        return _block(numbers, min(1, len(numbers) - 1), pre_release)
    if len(numbers) == 3:
        return compare(operator, *_key(numbers, pre_release))
    following = next_at(numbers, len(numbers) - 1)
    return {
        ">": compare(">=", *_key(following)),
        ">=": compare(">=", *_key(numbers)),
        "<": compare("<", *_key(numbers, "0")),
        "<=": compare("<", *_key(following, "0")),
    }.get(operator, _block(numbers, len(numbers) - 1))


def compile(text: str) -> Constraint:
    """Compile requirements with commas between them. Raises `VersionFault`."""
    versions, offset = ALL, 0
    named: set[tuple[int, int, int]] = set()
    for term in text.split(","):
        position = offset + len(term) - len(term.lstrip())
        if wildcard := _WILDCARD.fullmatch(term):
            numbers = tuple(int(n) for n in wildcard.groups()[1:] if n)
            if not numbers and "," in text:
                raise VersionFault(text, position, "is * beside others, which Cargo refuses")
            versions &= _block(numbers, len(numbers) - 1) if numbers else ALL
        elif found := _TERM.fullmatch(term):
            numbers = tuple(int(n) for n in found.groups()[1:4] if n)
            versions &= _term(found[1] or "", numbers, found[5] or "")
            if found[5]:
                named.add((numbers[0], numbers[1], numbers[2]))
        else:
            raise VersionFault(text, position, "is not a requirement as Cargo writes it")
        offset += len(term) + 1

    def accepts(key: Key) -> bool:
        return key in versions and (not semver.is_pre_release(key) or key[:3] in named)

    return Constraint(language="cargo", text=text, order=SEMVER, versions=versions, rule=accepts)
