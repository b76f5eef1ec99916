"""A version set written in a constraint language, for those that can say it."""

from __future__ import annotations

from typing import NamedTuple

from dokimon.core.versions.sets import Cut, Interval, VersionSet


class _Form(NamedTuple):
    """How a language writes: what is between an operator and its version, between bounds, between alternatives.

    `whole` versions have three numbers.
    """

    gap: str
    both: str | None
    either: str | None
    whole: bool = False


_FORMS = {
    "npm": _Form("", " ", " || "),
    "composer": _Form("", " ", " || "),
    "pep440": _Form("", ",", None),
    "poetry": _Form("", ",", " || "),
    "plain": _Form("", ", ", " or "),
    "cargo": _Form("", ", ", None),
    "dart": _Form("", " ", None, whole=True),
    "elixir": _Form(" ", " and ", " or ", whole=True),
    "gem": _Form(" ", None, None),
}
_LEAST = frozenset({"go", "cmake", "swift"})
"""Languages that name the oldest version and nothing else."""

_RANGES = frozenset({"maven", "nuget"})
"""Languages that write intervals in brackets."""


def written(language: str, versions: VersionSet) -> str | None:
    """Return the constraint that accepts these versions (over the plain dotted order), or None where it cannot say them."""
    if not versions:
        return None
    if language in _LEAST:
        return versions.intervals[0].low.label or None if versions.intervals[-1].high.rank else None
    if language in _RANGES:
        return _in_brackets(versions.intervals[0]) if len(versions.intervals) == 1 else None
    form = _FORMS.get(language)
    if form is None or (len(versions.intervals) > 1 and form.either is None):
        return None
    told = []
    for interval in versions.intervals:
        bounds = _bounds(interval, form)
        if not bounds or (len(bounds) > 1 and form.both is None):
            return None
        told.append((form.both or "").join(bounds))
    return (form.either or "").join(told)


def _bounds(interval: Interval, form: _Form) -> list[str]:
    low, high = interval.low, interval.high
    bounds = []
    if not low.rank:
        bounds.append(f"{'>' if is_after(low) else '>='}{form.gap}{_version(low, form)}")
    if not high.rank:
        bounds.append(f"{'<=' if is_after(high) else '<'}{form.gap}{_version(high, form)}")
    return bounds


def _version(cut: Cut, form: _Form) -> str:
    return cut.label + ".0" * max(2 - cut.label.count("."), 0) if form.whole else cut.label


def _in_brackets(interval: Interval) -> str:
    low, high = interval.low, interval.high
    begins = "(" if low.rank or is_after(low) else "["
    ends = "]" if not high.rank and is_after(high) else ")"
    return f"{begins}{'' if low.rank else low.label},{'' if high.rank else high.label}{ends}"


def is_after(cut: Cut) -> bool:
    """Whether a cut lies just after the version that it is labelled with."""
    return cut.side == 1
