"""npm's ranges, as the grammar in the README of npm's `semver` package gives them ("Range Grammar").

Membership follows npm's default: a pre-release is accepted only where the same alternative names a pre-release of
the same three numbers. The version set is the plain intervals, which also hold the pre-releases between the ends.
"""

from __future__ import annotations

from typing import NamedTuple

from dokimon.core.expressions import expression
from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.orders import semver
from dokimon.core.versions.orders.semver import BUILD, PRE_RELEASE, SEMVER, Key
from dokimon.core.versions.sets import ALL, HIGHEST, LOWEST, NONE, VersionSet, after, before, between, union

_X = r"(?:0|[1-9][0-9]*|[xX*])"
_PARTIAL = rf"([v=\s]*)({_X})(?:\.({_X})(?:\.({_X})(?:-({PRE_RELEASE}))?(?:\+{BUILD})?)?)?"
_HYPHEN = expression(rf"\s*{_PARTIAL}\s+-\s+{_PARTIAL}\s*")
_SIMPLE = expression(rf"(\^|~>?|[<>]\s*=|[<>=]?)\s*{_PARTIAL}(?=\s|$)")


class _Ends(NamedTuple):
    """One comparator, or several joined: the plain intervals, and where pre-releases are let in."""

    versions: VersionSet
    pre_releases: frozenset[tuple[int, int, int]] = frozenset()  # numbers for which pre-releases are accepted


_ANY = _Ends(ALL)


class _Partial(NamedTuple):
    """A version with parts left open: `x`, `*` or nothing is None, and so is all that follows it."""

    major: int | None
    minor: int | None
    patch: int | None
    pre_release: str
    strict: bool
    """Written as npm wants it where it compares a full version: nothing before the numbers but one `v`."""
    orderly: bool
    """Without a number behind an open part."""

    @classmethod
    def read(cls, groups: tuple[str | None, ...]) -> _Partial:
        numbers: list[int | None] = []
        for part in groups[1:4]:
            open_part = part is None or part in "xX*" or (numbers and numbers[-1] is None)
            numbers.append(None if open_part else int(part or 0))
        major, minor, patch = numbers
        given = [part for part in groups[1:4] if part is not None]
        orderly = [part in "xX*" for part in given] == sorted(part in "xX*" for part in given)
        strict = (groups[0] or "").strip() in ("", "v")
        return cls(major, minor, patch, (groups[4] or "") if patch is not None else "", strict, orderly)


def _at(major: int, minor: int = 0, patch: int = 0, pre_release: str = "") -> tuple[Key, str]:
    label = f"{major}.{minor}.{patch}" + (f"-{pre_release}" if pre_release else "")
    return semver.key_of(major, minor, patch, pre_release), label


def _from(version: _Partial) -> tuple[Key, str]:
    return _at(version.major or 0, version.minor or 0, version.patch or 0, version.pre_release)


def _ends(low: tuple[Key, str] | None, high: tuple[Key, str] | None, *, high_in: bool = False) -> _Ends:
    bottom = before(*low) if low else LOWEST
    end = after if high_in else before
    top = end(*high) if high else HIGHEST
    named = frozenset(end[0][:3] for end in (low, high) if end and semver.is_pre_release(end[0]))
    return _Ends(between(bottom, top), named)


def _next(version: _Partial, part: int) -> tuple[Key, str]:
    """Return the first version, pre-releases counted, after all that share the numbers up to `part` (0 is major)."""
    numbers = [version.major or 0, version.minor or 0, version.patch or 0]
    major, minor, patch = [*numbers[:part], numbers[part] + 1, 0, 0][:3]
    return _at(major, minor, patch, "0")


def _caret(v: _Partial) -> _Ends:
    if v.major is None:
        return _ANY
    if v.major or v.minor is None:
        return _ends(_from(v), _next(v, 0))
    return _ends(_from(v), _next(v, 1 if v.minor or v.patch is None else 2))


def _tilde(v: _Partial) -> _Ends:
    if v.major is None:
        return _ANY
    return _ends(_from(v), _next(v, 0 if v.minor is None else 1))


def _compare(operator: str, v: _Partial) -> _Ends:
    if v.major is None:
        return _Ends(NONE) if operator in ("<", ">") else _ANY
    if v.minor is not None and v.patch is not None:
        return _compare_full(operator, _from(v))
    following = _next(v, 0 if v.minor is None else 1)
    if operator == ">":
        numbers = following[0]
        return _ends(_at(*numbers[:3]), None)
    if operator == "<":
        return _ends(None, _at(v.major, v.minor or 0, 0, "0"))
    if operator == "<=":
        return _ends(None, following)
    return _ends(_from(v), None if operator == ">=" else following)


def _compare_full(operator: str, at: tuple[Key, str]) -> _Ends:
    named = frozenset({at[0][:3]}) if semver.is_pre_release(at[0]) else frozenset()
    cuts = {
        ">": (after(*at), HIGHEST),
        ">=": (before(*at), HIGHEST),
        "<": (LOWEST, before(*at)),
        "<=": (LOWEST, after(*at)),
    }
    return _Ends(between(*cuts.get(operator, (before(*at), after(*at)))), named)


def _hyphen(groups: tuple[str | None, ...]) -> _Ends:
    start, end = _Partial.read(groups[:5]), _Partial.read(groups[5:])
    low = None if start.major is None else _from(start)
    if end.major is None:
        return _ends(low, None)
    if end.patch is None:
        return _ends(low, _next(end, 0 if end.minor is None else 1))
    return _ends(low, _from(end), high_in=True)


def _alternative(text: str, whole: str, offset: int) -> _Ends:
    """Read what stands between two `||`: a hyphen range, or comparators that must all hold."""
    hyphen = _HYPHEN.fullmatch(text)
    if hyphen:
        first, last = _Partial.read(hyphen.groups()[:5]), _Partial.read(hyphen.groups()[5:])
        if not (first.patch is None or first.strict) or not (last.patch is None or last.strict or last.pre_release):
            raise VersionFault(whole, offset, "is not a range that npm understands")
        return _hyphen(hyphen.groups())
    joined, position = _ANY, 0
    while position < len(text):
        if text[position].isspace():
            position += 1
            continue
        found = _SIMPLE.match(text, position)
        if not found:
            raise VersionFault(whole, offset + position, "is not a range that npm understands")
        operator, version = "".join(found[1].split()), _Partial.read(found.groups()[1:])
        read = {"^": _caret, "~": _tilde, "~>": _tilde}.get(operator)
        if not read and (not version.orderly or (version.patch is not None and not version.strict)):
            raise VersionFault(whole, offset + position, "is not a range that npm understands")
        ends = read(version) if read else _compare(operator, version)
        joined = _Ends(joined.versions & ends.versions, joined.pre_releases | ends.pre_releases)
        position = found.end()
    return joined


def compile(text: str) -> Constraint:
    """Compile an npm range; an empty one accepts every release. Raises `VersionFault`."""
    alternatives: list[_Ends] = []
    offset = 0
    for part in text.split("||"):
        alternatives.append(_alternative(part, text, offset))
        offset += len(part) + 2
    if _ANY in alternatives:  # npm drops the other alternatives beside a `*`, and their pre-releases with them
        alternatives = [_ANY]

    def accepts(key: Key) -> bool:
        released = not semver.is_pre_release(key)
        return any(key in a.versions and (released or key[:3] in a.pre_releases) for a in alternatives)

    return Constraint(
        language="npm", text=text, order=SEMVER, versions=union(*(a.versions for a in alternatives)), rule=accepts
    )
