"""`dokimon compare`: now against when it last passed, against any record, or against a report from elsewhere."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

import msgspec

from dokimon.core.faults import Fault
from dokimon.core.jobs.provenance import with_provenance
from dokimon.core.jobs.recording import Recorder, with_number
from dokimon.core.jobs.smoke import plan_report, plan_smoke
from dokimon.core.jobs.verify import Verified, verify, verify_report
from dokimon.core.planning.plan import PlanFault
from dokimon.core.records.differences import between, results_between
from dokimon.core.records.failing import Failing
from dokimon.core.records.ranking import ranked
from dokimon.core.records.record import Record
from dokimon.core.records.remembering import Memory, last_passed, shown_time, since, store_of
from dokimon.core.records.store import Kept, RecordsFault
from dokimon.core.report.comparison import FORMAT, MATTERS, Comparison, Side
from dokimon.core.report.model import Report, Surroundings
from dokimon.core.report.sharing import folded
from dokimon.core.text import counted


class ComparisonFault(Fault):
    """There is nothing to compare with; the reason says why."""


def compare_with_record(start: Path, environment: Mapping[str, str], asked: str | None) -> tuple[Comparison, list[str]]:
    """Look at the checkout now, and compare it with the record that is `asked` for, or with when it last passed.

    Returns notes on the records too. Nothing of the project is run: how its runs came out is taken from the last smoke
    check, where that is newer. Raises `ComparisonFault`, `SettingsFault` and `CatalogueFault`.
    """
    verified = verify(start, environment)
    checkout = verified.checkout
    store = store_of(environment, checkout.untrusted)
    if store is None:
        raise ComparisonFault("there are no records here: no home, or one inside the checkout")
    memory = Memory(store, checkout.root, checkout.project)
    try:
        rows = memory.rows()
        kept = since(rows, asked) if asked else _passed(rows)
        before = store.record(kept.id)
        later = _later_smoke(rows, kept)
        latest = store.record(later.id) if later else None
        now = _now(verified)
        if latest:
            now = _with_runs(now, latest.report)
        found = [with_number(each, checkout.root, before) for each in between(before, now, apart=False)]
    except RecordsFault as wrong:
        raise ComparisonFault(str(wrong)) from None
    finally:
        store.close()
    of = (
        f"when it last passed ({shown_time(kept.row.at)})"
        if asked is None
        else f"the record of {shown_time(kept.row.at)}"
    )
    comparison = Comparison(
        format=FORMAT,
        project=verified.workspace.project,
        before=_side(of, before.report),
        after=_side(_of_now(latest), now.report, run=latest.report if latest else None),
        matters=False,
        differences=ranked(found, Failing(now.report)),
        results=ranked(results_between(before.report, latest.report), Failing(now.report)) if latest else (),
    )
    return _judged(comparison), store.notes


def _passed(rows: Sequence[Kept]) -> Kept:
    found = last_passed(rows)
    if found:
        return found
    if rows:
        raise ComparisonFault(
            f"of its {counted(len(rows), 'record')} none passed; --since last compares with the last one"
        )
    raise ComparisonFault("nothing was recorded of this checkout yet; dokimon verify and dokimon smoke do")


def _later_smoke(rows: Sequence[Kept], kept: Kept) -> Kept | None:
    """Return the last smoke check after a record, or the record itself where there is none that carried out runs."""
    later = [each for each in rows if each.id > kept.id and each.row.command == "smoke" and not each.row.interrupted]
    return later[-1] if later else None


def _of_now(latest: Record | None) -> str:
    made = latest.report.made if latest else None
    return f"now (runs as of {shown_time(made.at)})" if made else "now"


def _now(verified: Verified) -> Record:
    """Return the checkout and this machine as they are now, as a record: what is declared, reached, planned and around."""
    report = with_provenance(verify_report(verified, strict=False))
    try:
        plan = plan_report(verified, plan_smoke(verified, verified.environment, ()))
        report = msgspec.structs.replace(report, plan=plan.plan)
    except PlanFault:
        pass
    recorder = Recorder(verified, keeping=False)
    recorder.look_at_all()
    return recorder.record_of(report, _given(verified))


def _given(verified: Verified) -> dict[str, str]:
    try:
        plan = plan_smoke(verified, verified.environment, ())
    except PlanFault:
        return {}
    return {name: value for run in plan.runs for name, value in run.environment.items()}


def _with_runs(now: Record, last: Report) -> Record:
    report = msgspec.structs.replace(now.report, runs=last.runs, prepared=last.prepared)
    return msgspec.structs.replace(now, report=report)


def compare_with_report(start: Path, environment: Mapping[str, str], theirs: Report) -> Comparison:
    """Compare a report from elsewhere with this machine now; paths are compared without homes. Raises as above."""
    verified = verify(start, environment)
    now = _now(verified)
    store = store_of(environment, verified.checkout.untrusted)
    latest = (
        _last_smoke(Memory(store, verified.checkout.root, verified.checkout.project))
        if store and theirs.command == "smoke"
        else None
    )
    if latest:
        now = _with_runs(now, latest)
    nothing = Surroundings(system="", architecture="", release="")
    made = theirs.made
    if made:
        nothing = Surroundings(system=made.system, architecture=made.architecture, release=made.release)
    there = Record(report=_folded(theirs), surroundings=theirs.surroundings or nothing)
    here = msgspec.structs.replace(now, report=_folded(now.report))
    failing = Failing(latest or theirs)
    comparison = Comparison(
        format=FORMAT,
        project=verified.workspace.project,
        before=_side("their report", theirs),
        after=_side("this machine now", here.report, run=latest),
        matters=False,
        differences=ranked(between(there, here, apart=True), failing),
        results=ranked(results_between(theirs, latest), failing) if latest else (),
        not_compared=_not_compared(theirs, latest),
    )
    return _judged(comparison)


def _last_smoke(memory: Memory) -> Report | None:
    try:
        rows = [kept for kept in memory.rows() if kept.row.command == "smoke" and not kept.row.interrupted]
        return memory.store.record(rows[-1].id).report if rows else None
    except RecordsFault:
        return None
    finally:
        memory.store.close()


def _not_compared(theirs: Report, latest: Report | None) -> tuple[str, ...]:
    found = []
    if theirs.surroundings is None:
        found.append("files, packages and variables: their report was made without --share")
    if theirs.command == "smoke" and latest is None:
        found.append("runs and checks: nothing was smoke-checked here yet")
    return tuple(found)


def _folded(report: Report) -> Report:
    copies = tuple(msgspec.structs.replace(copy, path=folded(copy.path)) for copy in report.installations)
    return msgspec.structs.replace(report, installations=copies)


def _side(of: str, report: Report, run: Report | None = None) -> Side:
    made, shown = report.made, run or report
    return Side(
        of=of,
        at=made.at if made else None,
        commit=made.commit if made else None,
        command=shown.command,
        verdict=shown.verdict,
        system=f"{made.release}, {made.architecture}" if made else None,
    )


def _judged(comparison: Comparison) -> Comparison:
    matters = any(each.weight in MATTERS for each in (*comparison.differences, *comparison.results))
    return msgspec.structs.replace(comparison, matters=matters)
