"""A record: a report with what may explain a later difference; and how it is summed up as a row of a history."""

from __future__ import annotations

import msgspec

from dokimon.core.digests import blake2b
from dokimon.core.report.model import Report, Surroundings
from dokimon.core.report.rows import Row
from dokimon.core.report.summary import first_wrong
from dokimon.core.text import clean


class Record(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True):
    """A report, always with where it was made (`report.made`), and the surroundings that it was made in."""

    report: Report
    surroundings: Surroundings

    @property
    def looked_around(self) -> bool:
        """Whether ports were looked at, and what runs are given: `verify` alone does neither."""
        return self.report.command == "smoke" or self.report.plan is not None


def row_of(record: Record) -> Row:
    """Return the row of a record."""
    report = record.report
    made = report.made
    if made is None:
        raise ValueError("a record says when it was made")
    runs, steps = report.runs or (), report.prepared or ()
    ups = [run.up_seconds for run in runs if run.up_seconds is not None]
    answers = [run.answered_seconds for run in runs if run.answered_seconds is not None]
    checked = [run.checked_seconds - run.up_seconds for run in runs if run.checked_seconds and run.up_seconds]
    wrong = None if report.verdict in ("met", "passed") else first_wrong(report)
    return Row(
        at=made.at,
        command=report.command,
        verdict=report.verdict,
        dokimon=made.dokimon,
        name=report.project.name,
        folder=report.project.folder or ".",
        commit=made.commit,
        branch=made.branch,
        changed=made.changed,
        interrupted=report.interrupted,
        machine=record.surroundings.machine,
        plan=plan_mark(report),
        wrong=clean(wrong, 300) if wrong else None,
        passed=tuple(run.name for run in runs if run.verdict == "passed"),
        tools={each.tool: each.version for each in report.installations if each.reached and each.version},
        seconds=report.seconds,
        verify=report.verify_seconds,
        prepare=_sum([step.seconds for step in steps if step.seconds is not None]),
        start=_sum(ups),
        check=_sum(checked),
        stop=_sum([run.stop_seconds for run in runs if run.stop_seconds is not None]),
        up=max(ups, default=None),
        answer=max(answers, default=None),
    )


def plan_mark(report: Report) -> str | None:
    """Return what tells the plan that was carried out from others: its runs and how they are started."""
    if not report.runs:
        return None
    # A free port is another one each time.
    ports = {str(at.port) for run in report.runs for at in run.listening}
    words = [[run.name, *(word for word in run.command.split() if not any(port in word for port in ports))]
             for run in report.runs]  # fmt: skip
    return blake2b(msgspec.json.encode(words), digest_size=6).hexdigest()


def _sum(seconds: list[float]) -> float | None:
    return round(sum(seconds), 3) if seconds else None
