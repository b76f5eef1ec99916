"""NuGet's version ranges (learn.microsoft.com, "Package versioning", "Version ranges").

`1.0` accepts 1.0 and all above, `[1.0]` just that, `(1.0,2.0]` a range. A floating version (`1.*`) accepts what it names:
released versions that begin so, `1.*-*` pre-releases too, `1.0-beta*` those of 1.0 whose name begins so and 1.0 itself;
NuGet itself only picks by it and would let any higher version pass.
"""

from __future__ import annotations

import re
from typing import Any

from dokimon.core.expressions import expression
from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.languages.comparing import compare, dotted_label, high_end, low_end, next_at
from dokimon.core.versions.orders import nuget
from dokimon.core.versions.orders.nuget import NUGET
from dokimon.core.versions.sets import ALL, Cut, VersionSet, after, before, between

_FLOATING = expression(r"(?:(\d+(?:\.\d+){0,2})\.)?\*(?:-([0-9A-Za-z.-]*)\*)?|(\d+(?:\.\d+){0,3})-([0-9A-Za-z.-]*)\*")
_RANGE = expression(r"([\[(])\s*([^,\s]*)\s*(?:(,)\s*([^,\s]*?)\s*)?([\])])")


def _numbers(text: str) -> tuple[int, ...]:
    return tuple(int(number) for number in text.split("."))


def _floating(text: str, found: re.Match[str]) -> Constraint:
    begins, of_any, exactly, of_one = found.groups()
    prefix = of_one if exactly else of_any
    if exactly:
        numbers = _numbers(exactly)
        versions = between(before(nuget.key_of(numbers, "0"), exactly), after(nuget.key_of(numbers), exactly))
    elif begins:
        numbers = _numbers(begins)
        following = next_at(numbers, len(numbers) - 1)
        low = before(nuget.key_of(numbers, "0"), begins)
        versions = between(low, before(nuget.key_of(following, "0"), dotted_label(following)))
    else:
        versions = ALL

    def accepts(key: Any) -> bool:
        name = nuget.pre_release_of(key)
        return key in versions and (not name or (prefix is not None and name.startswith(prefix.lower())))

    return Constraint(language="nuget", text=text, order=NUGET, versions=versions, rule=accepts)


def compile(text: str) -> Constraint:
    """Compile a version range of NuGet. Raises `VersionFault`."""
    bare = text.strip()
    if floating := _FLOATING.fullmatch(bare):
        return _floating(text, floating)
    if not bare.startswith(("[", "(")):
        return Constraint(language="nuget", text=text, order=NUGET, versions=compare(">=", NUGET.key(bare), bare))
    found = _RANGE.fullmatch(bare)
    if not found or not (found[2] or found[4]):
        raise VersionFault(text, 0, "is not a range as NuGet writes it, such as [1.0,2.0)")
    opens, low, comma, high, closes = found.groups()
    if not comma:
        if (opens, closes) != ("[", "]"):
            raise VersionFault(text, 0, "a single version needs square brackets on both sides")
        return Constraint(language="nuget", text=text, order=NUGET, versions=compare("=", NUGET.key(low), low))
    low = _start_of(low)
    if low and high and not _is_forward(NUGET.key(low), NUGET.key(high), opens + closes):
        raise VersionFault(text, 0, "ends before it begins")
    bottom = low_end(NUGET, low, included=opens == "[")
    return Constraint(language="nuget", text=text, order=NUGET, versions=_between(bottom, high, closes))


def _between(bottom: Cut, high: str, closes: str) -> VersionSet:
    return between(bottom, high_end(NUGET, high, included=closes == "]"))


def _is_forward(low: Any, high: Any, ends: str) -> bool:
    return bool(low < high) or (low == high and ends in ("[]", "()"))


def _start_of(low: str) -> str:
    """Return the first version that a floating start of a range names; any other start as it is."""
    found = _FLOATING.fullmatch(low)
    if not found:
        return low
    begins, of_any, exactly, of_one = found.groups()
    prefix = of_one if exactly else of_any
    numbers = exactly or begins or "0"
    return numbers if prefix is None else f"{numbers}-{prefix.rstrip('.-') or '0'}"
