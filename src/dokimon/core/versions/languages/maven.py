"""Maven's version requirements (POM reference, "Dependency Version Requirement Specification").

`[1.0,2.0)`, `(,1.0],[1.2,)`, `[1.5]`; a version alone is a soft requirement, which accepts every version.
"""

from __future__ import annotations

from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.languages.comparing import high_end, low_end
from dokimon.core.versions.orders.maven import MAVEN
from dokimon.core.versions.sets import ALL, NONE, Cut, VersionSet, after, before, between


def _range(text: str, whole: str, offset: int) -> tuple[VersionSet, Cut, Cut]:
    """Read one range with its brackets; return its versions and its ends."""
    opens, closes, inner = text[0] == "[", text[-1] == "]", text[1:-1]
    low, comma, high = (part.strip() for part in inner.partition(","))
    if not comma:
        if not (opens and closes) or not low:
            raise VersionFault(whole, offset, "a single version needs square brackets on both sides")
        key = MAVEN.key(low)
        return between(before(key, low), after(key, low)), before(key, low), after(key, low)
    bottom = low_end(MAVEN, low, included=bool(opens))
    top = high_end(MAVEN, high, included=bool(closes))
    if low and high and not bottom < top:
        raise VersionFault(whole, offset, "a range must not end before it begins, nor be empty")
    return between(bottom, top), bottom, top


def compile(text: str) -> Constraint:
    """Compile a version requirement of a POM. Raises `VersionFault`."""
    versions, rest, offset = NONE, text.strip(), len(text) - len(text.lstrip())
    last: Cut | None = None
    while rest.startswith(("[", "(")):
        ends = [index for index in (rest.find(")"), rest.find("]")) if index >= 0]
        if not ends:
            raise VersionFault(text, offset, "this range has no end")
        found, low, high = _range(rest[: min(ends) + 1], text, offset)
        if last is not None and not last.rank and (low.rank or low.key < last.key):
            raise VersionFault(text, offset, "the ranges overlap, or are not in rising order")
        versions, last = versions | found, high
        following = rest[min(ends) + 1 :].lstrip()
        following = following[1:].lstrip() if following.startswith(",") else following
        offset += len(rest) - len(following)
        rest = following
    if rest and last is not None:
        raise VersionFault(text, offset, "beside a range only further ranges may stand")
    if not rest and last is None:
        raise VersionFault(text, 0, "is empty")
    return Constraint(language="maven", text=text, order=MAVEN, versions=ALL if rest else versions)
