"""Carrying out the checks of one run: independent ones at once, each as often as it may be tried, in a fixed order."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from dokimon.core.checks.context import CheckContext
from dokimon.core.checks.spec import CheckSpec
from dokimon.core.measures import seconds
from dokimon.core.report.model import Check
from dokimon.core.source import Source
from dokimon.core.text import clean

_AT_ONCE = 6
_LOOK_EVERY = 0.1
"""Seconds between two looks at whether somebody asked to stop, while checks are at work."""


class PlannedCheck(msgspec.Struct, frozen=True):
    """A check to carry out, and the line that asks for it; None for a default check."""

    spec: CheckSpec
    source: Source | None = None

    @property
    def title(self) -> str:
        """What the check is called: as somebody named it, else after what it looks at."""
        return clean(self.spec.name or self.spec.default_name, 100)


def carry_out_checks(planned: Sequence[PlannedCheck], context: CheckContext) -> tuple[Check, ...] | None:
    """Return what was seen, in the order of `planned`; None where the work was halted.

    What comes after a failed check that was `needed` is skipped.
    """
    found: list[Check] = []
    batches = _batches(planned)
    for number, batch in enumerate(batches):
        results = _at_once(batch, context)
        if results is None:
            return None
        found += [check for checks in results for check in checks]
        missed = [
            each.title
            for each, checks in zip(batch, results, strict=True)
            if each.spec.needed and any(check.verdict in ("failed", "unsure") for check in checks)
        ]
        if missed:
            rest = [each for later in batches[number + 1 :] for each in later]
            found += [_skipped(each, missed[0]) for each in rest]
            break
    return tuple(found)


def _skipped(planned: PlannedCheck, because: str) -> Check:
    return Check(
        name=planned.title, verdict="skipped", expected="not looked at", seen=f"“{because}” is needed, and did not pass",
        kind=planned.spec.kind_name, source=planned.source,
    )  # fmt: skip


def _batches(planned: Sequence[PlannedCheck]) -> list[list[PlannedCheck]]:
    """Return the checks in groups that may look at once: none changes anything, none needs a value of another."""
    batches: list[list[PlannedCheck]] = []
    given: set[str] = set()
    closed = True
    for each in planned:
        alone = each.spec.alone or each.spec.needed
        if alone or closed or each.spec.uses() & given:
            batches.append([])
            given = set()
        batches[-1].append(each)
        given |= each.spec.gives()
        closed = alone
    return batches


def _at_once(batch: Sequence[PlannedCheck], context: CheckContext) -> list[list[Check]] | None:
    """Carry all of them out in threads, so that an interruption need not wait for a slow answer."""
    from concurrent.futures import FIRST_COMPLETED, ThreadPoolExecutor, wait  # late: it loads `logging`

    pool = ThreadPoolExecutor(max_workers=_AT_ONCE)
    try:
        working = [pool.submit(_tried, each, context) for each in batch]
        left = set(working)
        while left:
            left = wait(left, timeout=_LOOK_EVERY, return_when=FIRST_COMPLETED).not_done
            # What undoes a change at its end is waited for; all else may be left where it is.
            if context.halt.is_set() and left and not any(each.spec.must_finish for each in batch):
                return None
        return [each.result() for each in working]
    finally:
        pool.shutdown(wait=False, cancel_futures=True)


def _tried(planned: PlannedCheck, context: CheckContext) -> list[Check]:
    """Look once, and again as long as it fails and may; what passed only then says so."""
    spec = planned.spec
    attempts = 1
    while True:
        try:
            checks = spec.look(context)
        except Exception as mistake:  # a bug in one check must not lose the others
            seen = clean(f"a bug in Dokimon: {type(mistake).__name__}: {mistake}")
            checks = [Check(name=planned.title, verdict="unsure", expected="to be looked at", seen=seen)]
        fine = all(check.verdict in ("passed", "skipped") for check in checks)
        if fine or attempts > spec.retries or context.halt.wait(seconds(spec.pause)):
            break
        attempts += 1
    # Several texts of one console are checks of their own; what comes with an answer is a part of that.
    is_group = checks and (spec.name or checks[0].name == clean(spec.default_name, 120))
    group = checks[0].name if is_group else None
    return [_finished(check, planned, attempts, group if number else None) for number, check in enumerate(checks)]


def _finished(check: Check, planned: PlannedCheck, attempts: int, part_of: str | None) -> Check:
    seen, own = check.seen, planned.spec.name
    if attempts > 1 and check.verdict == "passed" and part_of is None:
        seen += f"; only at attempt {attempts}"
    name = own if own and part_of is None else check.name
    return msgspec.structs.replace(
        check, name=clean(name, 120), seen=seen, kind=planned.spec.kind_name, source=planned.source,
        attempts=attempts if attempts > 1 else None, part_of=part_of and clean(own or part_of, 120),
    )  # fmt: skip
