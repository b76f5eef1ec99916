"""The times of a smoke check as bars on one axis, and those of earlier ones side by side: numbers to draw, in percent."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, NamedTuple

from dokimon.core.report.model import Prepared, Report, Run

if TYPE_CHECKING:
    from dokimon.core.report.rows import Row


class Bar(NamedTuple):
    """A stretch of time: what it is (`verify`, `prepare`, `start`, `check`, `up`, `run`, `stop`), from, and how long, in
    percent of the whole; `seconds` it lasted.
    """

    kind: str
    at: float
    width: float
    seconds: float


class TimeRow(NamedTuple):
    """A row of the time line: its name, its bars, what it says in words."""

    name: str
    bars: tuple[Bar, ...]
    says: str
    verdict: str


class Timeline(NamedTuple):
    """The rows, and the marks of the axis: percent and label."""

    rows: tuple[TimeRow, ...]
    marks: tuple[tuple[float, str], ...]
    kinds: tuple[str, ...]


_SHORTEST = 0.4
"""Percent: a bar that is drawn narrower cannot be seen."""


def timeline_of(report: Report) -> Timeline | None:
    """Return the time line of a smoke check; None where nothing was prepared or run, or its times are not known."""
    steps = [step for step in report.prepared or () if step.at_seconds is not None and step.seconds is not None]
    runs = [run for run in report.runs or () if run.at_seconds is not None and run.ended_seconds is not None]
    whole = report.seconds
    if not whole or not (steps or runs):
        return None
    rows = []
    if report.verify_seconds:
        rows.append(
            TimeRow("verify", (_bar("verify", 0, report.verify_seconds, whole),), f"{report.verify_seconds:.2f} s", "")
        )
    rows += [_of_step(step, whole) for step in steps]
    rows += [_of_run(run, whole) for run in runs]
    kinds = dict.fromkeys(bar.kind for row in rows for bar in row.bars)
    return Timeline(tuple(rows), tuple(_marks(whole)), tuple(kinds))


def own_seconds(report: Report) -> float | None:
    """Return the seconds that were Dokimon's own: all but those in which a step or run worked, or one was watched.

    None where the whole is not known.
    """
    if report.seconds is None:
        return None
    stretches = [
        (step.at_seconds, step.at_seconds + step.seconds)
        for step in report.prepared or ()
        if step.at_seconds is not None and step.seconds is not None
    ]
    for run in report.runs or ():
        at, ended = run.at_seconds, run.ended_seconds
        if at is None or ended is None:
            continue
        working = ended if run.up_seconds is None else run.up_seconds + (run.watched_seconds or 0)
        stretches += [(at, at + min(working, ended)), (at + ended - min(run.stop_seconds or 0, ended), at + ended)]
    theirs, reached = 0.0, 0.0
    for begins, ends in sorted(stretches):
        theirs += max(ends - max(begins, reached), 0.0)
        reached = max(reached, ends)
    return round(max(report.seconds - theirs, 0.0), 3)


def _bar(kind: str, at: float, seconds: float, whole: float) -> Bar:
    start = min(max(at / whole * 100, 0.0), 100 - _SHORTEST)
    return Bar(kind, round(start, 2), round(max(min(seconds / whole * 100, 100 - start), _SHORTEST), 2), seconds)


def _of_step(step: Prepared, whole: float) -> TimeRow:
    seconds, at = step.seconds or 0, step.at_seconds or 0
    return TimeRow(step.title, (_bar("prepare", at, seconds, whole),), f"{seconds:.2f} s", step.verdict)


def _of_run(run: Run, whole: float) -> TimeRow:
    at, ended = run.at_seconds or 0, run.ended_seconds or 0
    stop = min(run.stop_seconds or 0, ended)
    if run.up_seconds is None:
        return TimeRow(run.name, (_bar("run", at, ended, whole),), f"{ended:.2f} s in all", run.verdict)
    up, checked = run.up_seconds, max(run.checked_seconds or 0, run.up_seconds)
    stretches = [("start", 0.0, up), ("check", up, checked), ("up", checked, max(ended - stop, checked))]
    bars = [_bar(kind, at + start, end - start, whole) for kind, start, end in stretches if end > start]
    if stop:
        bars.append(_bar("stop", at + ended - stop, stop, whole))
    says = f"up {up:.2f} s, checks {checked - up:.2f} s" + (f", stop {stop:.2f} s" if stop else "")
    return TimeRow(run.name, tuple(bars), says, run.verdict)


_STEPS = (0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1800)


def _marks(whole: float) -> Iterator[tuple[float, str]]:
    step = next((each for each in _STEPS if whole / each <= 6), 3600)
    number = 0
    while number * step <= whole * 0.97:
        yield round(number * step / whole * 100, 2), f"{number * step:g} s"
        number += 1


class Column(NamedTuple):
    """One record of a history: its bars from below (at and height in percent), what it says, whether all was well."""

    bars: tuple[Bar, ...]
    says: str
    good: bool
    at: float
    width: float


class History(NamedTuple):
    """The columns, the oldest first, the largest value of the axis in seconds, and the kinds of bars in it."""

    columns: tuple[Column, ...]
    most: float
    kinds: tuple[str, ...]


_MOST_COLUMNS = 60
_PHASES = ("prepare", "start", "check", "stop")


def history_of(rows: Sequence[Row]) -> History | None:
    """Return the last smoke checks of a history as columns; None where there are fewer than two with times."""
    timed = [row for row in rows if row.command == "smoke" and any(getattr(row, name) for name in _PHASES)][
        -_MOST_COLUMNS:
    ]
    if len(timed) < 2:
        return None
    most = max(sum(getattr(row, name) or 0 for name in _PHASES) for row in timed)
    columns = []
    for number, row in enumerate(timed):
        below, bars = 0.0, []
        for name in _PHASES:
            seconds = getattr(row, name) or 0
            if seconds:
                bars.append(Bar(name, round(below / most * 100, 2), round(seconds / most * 100, 2), seconds))
                below += seconds
        told = ", ".join(f"{bar.kind} {bar.seconds:.2f} s" for bar in bars)
        commit = f", commit {row.commit[:7]}" if row.commit else ""
        says = f"{row.at[:16].replace('T', ' ')}{commit}: {row.verdict}; {told}"
        columns.append(
            Column(tuple(bars), says, row.is_good, round(number / len(timed) * 100, 2), round(80 / len(timed), 2))
        )
    kinds = tuple(name for name in _PHASES if any(bar.kind == name for column in columns for bar in column.bars))
    return History(tuple(columns), round(most, 2), kinds)
