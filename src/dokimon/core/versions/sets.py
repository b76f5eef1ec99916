"""Version sets: exact unions of disjoint intervals over one version order.

An interval runs from one *cut* to another. A cut lies just before or just after a version, so that "18 or newer"
starts at the cut before 18 and "newer than 18" at the cut after it: with cuts, open and closed ends need no cases.
The order is taken to be dense: between two cuts that differ there may always be a version.
"""

from __future__ import annotations

import re
from typing import Any

import msgspec

_BEFORE, _AFTER = 0, 1


class Cut(msgspec.Struct, frozen=True, kw_only=True, eq=False):
    """A place between versions: `rank` -1 lies before all versions, 1 after all; 0 is `side` of the version `key`.

    `label` is the version as it was written; it takes no part in comparing.
    """

    rank: int
    key: Any = None
    side: int = _BEFORE
    label: str = ""

    def __lt__(self, other: Cut) -> bool:
        if self.rank or other.rank:
            return self.rank < other.rank
        return bool((self.key, self.side) < (other.key, other.side))

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Cut) and (self.rank, self.key, self.side) == (
            other.rank,
            other.key,
            other.side,
        )

    def __hash__(self) -> int:
        return hash((self.rank, self.key, self.side))


LOWEST, HIGHEST = Cut(rank=-1), Cut(rank=1)


def before(key: Any, label: str) -> Cut:
    """Return the cut just before the version `key`."""
    return Cut(rank=0, key=key, side=_BEFORE, label=label)


def after(key: Any, label: str) -> Cut:
    """Return the cut just after the version `key`."""
    return Cut(rank=0, key=key, side=_AFTER, label=label)


class Interval(msgspec.Struct, frozen=True):
    """The versions from the cut `low` to the cut `high`; `low` lies before `high`."""

    low: Cut
    high: Cut

    def __contains__(self, key: Any) -> bool:
        return not Cut(rank=0, key=key, side=_BEFORE) < self.low and self.high > Cut(rank=0, key=key, side=_BEFORE)


class VersionSet(msgspec.Struct, frozen=True):
    """A set of versions: disjoint intervals in rising order that do not touch. Equal sets are equal values."""

    intervals: tuple[Interval, ...] = ()

    def __contains__(self, key: Any) -> bool:
        return any(key in interval for interval in self.intervals)

    def __bool__(self) -> bool:
        return bool(self.intervals)

    def __or__(self, other: VersionSet) -> VersionSet:
        return union(self, other)

    def __and__(self, other: VersionSet) -> VersionSet:
        kept = []
        for mine in self.intervals:
            for theirs in other.intervals:
                low = mine.low if theirs.low < mine.low else theirs.low
                high = mine.high if mine.high < theirs.high else theirs.high
                if low < high:
                    kept.append(Interval(low, high))
        return VersionSet(tuple(kept))

    def __invert__(self) -> VersionSet:
        gaps, low = [], LOWEST
        for interval in self.intervals:
            if low < interval.low:
                gaps.append(Interval(low, interval.low))
            low = interval.high
        if low < HIGHEST:
            gaps.append(Interval(low, HIGHEST))
        return VersionSet(tuple(gaps))

    def __sub__(self, other: VersionSet) -> VersionSet:
        return self & ~other

    def __le__(self, other: VersionSet) -> bool:
        """Whether every version of this set is one of `other`'s."""
        return not self - other

    def side_of(self, key: Any) -> int:
        """Return -1 when the version lies before the whole set, 1 when after it, 0 when in it or between its parts."""
        cut = Cut(rank=0, key=key, side=_BEFORE)
        if not self.intervals:
            return 0
        if cut < self.intervals[0].low:
            return -1
        return 0 if cut < self.intervals[-1].high else 1

    def __str__(self) -> str:
        return describe(self)


ALL = VersionSet((Interval(LOWEST, HIGHEST),))
NONE = VersionSet()


def between(low: Cut, high: Cut) -> VersionSet:
    """Return the versions between two cuts: none when `low` does not lie before `high`."""
    return VersionSet((Interval(low, high),)) if low < high else NONE


def union(*sets: VersionSet) -> VersionSet:
    """Return the versions that at least one of `sets` holds."""
    merged: list[Interval] = []
    for interval in sorted((i for s in sets for i in s.intervals), key=lambda i: i.low):
        if merged and not merged[-1].high < interval.low:
            if merged[-1].high < interval.high:
                merged[-1] = Interval(merged[-1].low, interval.high)
        else:
            merged.append(interval)
    return VersionSet(tuple(merged))


def describe(versions: VersionSet) -> str:
    """Return the set in words: "18.17 or newer, below 23", "20.x or 22.x", "3.7 or newer (except 3.8.x)"."""
    if not versions:
        return "no version"
    simple = [_simple(interval) for interval in versions.intervals]
    if all(simple):
        return " or ".join(simple)
    parts = [_in_words(span) for span in _spans(versions)]
    return "; or ".join(parts)


class _Span(msgspec.Struct):
    """Neighbouring intervals as one, but for the gaps between them: one version, or all that begin with some numbers."""

    low: Cut
    high: Cut
    gaps: list[str]


def _spans(versions: VersionSet) -> list[_Span]:
    spans: list[_Span] = []
    for interval in versions.intervals:
        gap = _gap(spans[-1].high, interval.low) if spans else ""
        if gap:
            spans[-1].gaps.append(gap)
            spans[-1].high = interval.high
        else:
            spans.append(_Span(interval.low, interval.high, []))
    return spans


def _gap(high: Cut, low: Cut) -> str:
    """Return what lies between the end of one interval and the beginning of the next, where that is short to say."""
    if high.side != _BEFORE:
        return ""
    if low.side == _AFTER:  # by its label too: one version of PEP 440 has local versions behind it
        return _full(high.label) if high.key == low.key or high.label == low.label else ""
    block = _block(_short(high.label), _short(low.label))
    return _all_of(block) if block else ""


def _simple(interval: Interval) -> str:
    """Return an interval that is one version, or all that begin with some numbers; "" for any other."""
    low, high = interval.low, interval.high
    if low.rank or high.rank:
        return ""
    if low.key == high.key or (low.label == high.label and low.side == _BEFORE and high.side == _AFTER):
        return f"exactly {_full(low.label)}"
    if low.side == _BEFORE and high.side == _BEFORE and (block := _block(low.label, _short(high.label))):
        return _all_of(block)
    return ""


def _in_words(span: _Span) -> str:
    low, high = span.low, span.high
    # A version that is the end itself is named in full: "newer than 3.8.0" leaves out no other 3.8.
    first = _short(low.label) if low.side == _BEFORE else _full(low.label)
    last = _short(high.label) if high.side == _BEFORE else _full(high.label)
    from_start = low.rank or (first == "0" and low.side == _BEFORE and high.rank)
    if from_start and high.rank:
        words = "any version"
    elif high.rank:
        words = f"{first} or newer" if low.side == _BEFORE else f"newer than {first}"
    elif low.rank:
        words = f"older than {last}" if high.side == _BEFORE else f"{last} or older"
    elif not span.gaps and (simple := _simple(Interval(low, high))):
        words = simple
    else:
        start = f"{first} or newer" if low.side == _BEFORE else f"above {first}"
        words = f"{start}, below {last}" if high.side == _BEFORE else f"{start}, at most {last}"
    return f"{words} (except {' and '.join(span.gaps)})" if span.gaps else words


def _short(label: str) -> str:
    """Leave out what adds nothing to an end: the `.0` at the end and the `-0` that stands for any pre-release."""
    return re.sub(r"(?:\.0)+$", "", re.sub(r"-0$", "", label))


def _full(label: str) -> str:
    """Return a single version with three numbers at least, so that nobody takes 8.2 for all of 8.2."""
    return label if not re.fullmatch(r"\d+\.\d+", label) else f"{label}.0"


def _all_of(block: str) -> str:
    """Name all versions that begin with some numbers: 3.12.x, but 3.12.1 alone, which few tools number further."""
    return f"exactly {block}" if block.count(".") > 1 else f"{block}.x"


def _block(low: str, high: str) -> str | None:
    """Return "20" when the ends are 20 and 21, "3.11" when they are 3.11 and 3.12: all versions that start so."""
    if not re.fullmatch(r"\d+(\.\d+)*", low) or not re.fullmatch(r"\d+(\.\d+)*", high):
        return None
    parts = high.split(".")
    start = [*parts[:-1], str(int(parts[-1]) - 1)]
    given = low.split(".")
    rest = given[len(start) :]
    return ".".join(start) if given[: len(start)] == start and not any(int(part) for part in rest) else None
