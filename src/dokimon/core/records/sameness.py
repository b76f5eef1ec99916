"""Whether all is as it was at a smoke check that passed: what was seen of a run then need not be waited for again."""

from __future__ import annotations

import msgspec

from dokimon.core.records.record import Record
from dokimon.core.report.model import Finding, Surroundings


def is_as_then(then: Record, around: Surroundings, findings: tuple[Finding, ...], runs: frozenset[str]) -> bool:
    """Whether nothing is other than at the record of a smoke check: no file, package, variable or tool that is known of.

    `runs` are the names of those to be carried out: each passed then. More may listen on this machine now, but not less.
    """
    passed = {run.name for run in then.report.runs or () if run.verdict == "passed"}
    return (
        runs <= passed
        and around.all_files
        and set(then.surroundings.listening) <= set(around.listening)
        and _still(then.surroundings) == _still(around)
        and _found(then.report.requirements) == _found(findings)
    )


def _still(around: Surroundings) -> Surroundings:
    """Surroundings but for what is looked at after the runs, and for who listens."""
    return msgspec.structs.replace(around, listening=(), commands=())


def _found(findings: tuple[Finding, ...]) -> list[tuple[str, str | None, str | None]]:
    return [
        (each.tool, each.found.path if each.found else None, each.found.version if each.found else None)
        for each in findings
    ]
