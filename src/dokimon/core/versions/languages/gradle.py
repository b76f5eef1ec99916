"""Gradle's version notation (user manual, "Declaring versions and ranges").

`1.3` is that version, `1.+` all that begin with 1, `[1.0,2.0)` and `[1.0,2.0[` ranges; an end that is left out also
leaves out what begins with it, so that `[1.0,2.0[` holds no 2.0-rc1. `latest.release` and `+` accept every version.
"""

from __future__ import annotations

import re

from dokimon.core.expressions import expression
from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.languages.comparing import compare, high_end, low_end
from dokimon.core.versions.orders import gradle
from dokimon.core.versions.orders.gradle import GRADLE
from dokimon.core.versions.sets import ALL, Cut, VersionSet, before, between

_RANGE = expression(r"\s*([\[(\]])\s*([^,\s]*)\s*,\s*([^,\s\[\])]*)\s*([\])\[])\s*")
_FIRST = ((-1, 0, ""),)
"""Below every part that may follow."""


def _prefix(text: str) -> VersionSet:
    """Return the versions whose first parts are those of `text`."""
    parts = gradle.parts_of(text)
    if not parts:
        return ALL
    rank, number, word = parts[-1]
    following = (*parts[:-1], (rank, number + 1, word) if rank else (rank, number, word + "\0"))
    following_label = re.sub(r"\d+(?=\D*$)", lambda m: str(int(m[0]) + 1), text.rstrip(".-_"))
    return between(before((*parts, *_FIRST), text.rstrip(".-_")), before((*following, *_FIRST), following_label))


def _top(high: str, *, included: bool) -> Cut:
    """Return where a range ends; one that leaves its end out leaves out the pre-releases of it too."""
    if not high or included:
        return high_end(GRADLE, high, included=True)
    return before((*gradle.parts_of(high), *_FIRST), high)


def compile(text: str) -> Constraint:
    """Compile a version notation of Gradle. Raises `VersionFault`."""
    bare = text.strip()
    if not bare:
        raise VersionFault(text, 0, "is empty")
    if bare == "+" or bare.startswith("latest."):
        return Constraint(language="gradle", text=text, order=GRADLE, versions=ALL)
    if bare.endswith("+"):
        return Constraint(language="gradle", text=text, order=GRADLE, versions=_prefix(bare[:-1]))
    if found := _RANGE.fullmatch(text):
        opens, low, high, closes = found.groups()
        bottom = low_end(GRADLE, low, included=opens == "[")
        top = _top(high, included=closes == "]")
        return Constraint(language="gradle", text=text, order=GRADLE, versions=between(bottom, top))
    if one := re.fullmatch(r"\[\s*([^,\s\]]+)\s*\]", bare):
        bare = one[1]
    elif bare[0] in "[(]":
        raise VersionFault(text, 0, "is a range without an end")
    return Constraint(language="gradle", text=text, order=GRADLE, versions=compare("=", GRADLE.key(bare), bare))
