"""NuGet's version ranges (learn.microsoft.com, "Package versioning", "Version ranges").

`1.0` accepts 1.0 and all above, `[1.0]` just that, `(1.0,2.0]` a range. A floating version (`1.*`) accepts what
begins so; NuGet itself only picks by it and would let any higher version pass.
"""

from __future__ import annotations

import re

from dokimon.core.expressions import expression
from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.languages.comparing import compare, dotted_label, high_end, low_end, next_at
from dokimon.core.versions.orders import nuget
from dokimon.core.versions.orders.nuget import NUGET
from dokimon.core.versions.sets import ALL, VersionSet, after, before, between

_FLOATING = expression(r"(?:(\d+(?:\.\d+){0,2})\.)?\*(?:-\*)?|(\d+(?:\.\d+){1,3})-([0-9A-Za-z.-]*)\*")


def _floating(found: re.Match[str]) -> VersionSet:
    if found[2]:  # a floating pre-release: from it on to the end of its numbers
        numbers = tuple(int(n) for n in found[2].split("."))
        start = nuget.key_of(numbers, f"{found[3].rstrip('.-')}" or "0")
        return between(before(start, found[0].rstrip("*.")), after(nuget.key_of(numbers), found[2]))
    if not found[1]:
        return ALL
    numbers = tuple(int(n) for n in found[1].split("."))
    following = next_at(numbers, len(numbers) - 1)
    low = before(nuget.key_of(numbers, "0"), found[1])
    return between(low, before(nuget.key_of(following, "0"), dotted_label(following)))


def compile(text: str) -> Constraint:
    """Compile a version range of NuGet. Raises `VersionFault`."""
    bare = text.strip()
    if floating := _FLOATING.fullmatch(bare):
        return Constraint(language="nuget", text=text, order=NUGET, versions=_floating(floating))
    if not bare.startswith(("[", "(")):
        return Constraint(language="nuget", text=text, order=NUGET, versions=compare(">=", NUGET.key(bare), bare))
    found = re.fullmatch(r"([\[(])\s*([^,\s]*)\s*(?:(,)\s*([^,\s]*?)\s*)?([\])])", bare)
    if not found or not (found[2] or found[4]):
        raise VersionFault(text, 0, "is not a range as NuGet writes it, such as [1.0,2.0)")
    opens, low, comma, high, closes = found.groups()
    if not comma:
        if (opens, closes) != ("[", "]"):
            raise VersionFault(text, 0, "a single version needs square brackets on both sides")
        return Constraint(language="nuget", text=text, order=NUGET, versions=compare("=", NUGET.key(low), low))
    if re.fullmatch(r"(?:\d+\.){0,3}\*", low):  # a floating start: from its first version on
        low = low.rstrip("*").rstrip(".") or "0"
    bottom = low_end(NUGET, low, included=opens == "[")
    top = high_end(NUGET, high, included=closes == "]")
    return Constraint(language="nuget", text=text, order=NUGET, versions=between(bottom, top))
