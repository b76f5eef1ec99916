"""What came out otherwise: runs, checks and times. These are what is to be explained."""

from __future__ import annotations

from collections.abc import Iterator

from dokimon.core.records.found import Found
from dokimon.core.report.model import Check, Report, Run


def runs_differ(before: Report, after: Report) -> Iterator[Found]:
    """Yield the runs and checks that came out otherwise."""
    now = {run.name: run for run in after.runs or ()}
    for old in before.runs or ():
        new = now.get(old.name)
        if new is None:
            continue
        if old.verdict != new.verdict:
            cause = new.diagnoses[0].cause if new.diagnoses else new.reason
            says = f"{old.name} {new.verdict}, it {old.verdict}" + (f": {cause}" if new.verdict != "passed" else "")
            yield Found("runs", old.name, says, old.verdict, new.verdict, big=True)
        yield from _checks(old, new)


def _checks(old: Run, new: Run) -> Iterator[Found]:
    then = {check.full_name: check for check in old.checks}
    now = {check.full_name: check for check in new.checks}
    for name in dict.fromkeys([*then, *now]):
        was, is_now = then.get(name), now.get(name)
        if was is None or is_now is None or was.verdict == is_now.verdict or is_now.sums_up:
            continue
        if is_now.seen in new.reason:  # the run itself says so
            continue
        yield _check(f"{new.name}: {name}", was, is_now)


def _check(name: str, was: Check, is_now: Check) -> Found:
    return Found(
        "checks", name, f"{name} {is_now.verdict}: {is_now.seen} (it was: {was.seen})", was.seen, is_now.seen, big=True
    )


_SLOWER, _BY_SECONDS = 1.5, 0.5


def times_differ(before: Report, after: Report) -> Iterator[Found]:
    """Yield the runs that took half as long again, or as much less, and half a second at least."""
    then = {run.name: run for run in before.runs or ()}
    for run in after.runs or ():
        old = then.get(run.name)
        for what, was, is_now in () if old is None else (
            ("up", old.up_seconds, run.up_seconds), ("stopped", old.stop_seconds, run.stop_seconds)
        ):  # fmt: skip
            if was is None or is_now is None or abs(is_now - was) < _BY_SECONDS:
                continue
            if max(was, is_now) > _SLOWER * min(was, is_now):
                says = f"{run.name} was {what} after {is_now:.2f} s, it was {was:.2f} s"
                yield Found("times", run.name, says, f"{was:.2f} s", f"{is_now:.2f} s")
