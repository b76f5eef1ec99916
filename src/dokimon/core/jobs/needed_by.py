"""`dokimon tools NAME --needed-by FOLDER`: which checkouts need a tool, and which copy of it each reaches."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

import msgspec

from dokimon.core.jobs.several import checkouts_in, reports_of
from dokimon.core.jobs.verify import verify, verify_report
from dokimon.core.machine.once import Once
from dokimon.core.machine.survey import Installation
from dokimon.core.report.model import Finding, NeededBy, Report
from dokimon.core.report.outcome import UNMET_VERDICTS
from dokimon.core.text import clean


def with_needs(report: Report, tools: Sequence[str], folder: Path, environment: Mapping[str, str]) -> Report:
    """Return the report of `tools` with who needs them below a folder, and a note on each copy that nobody reaches."""
    checkouts = checkouts_in([folder])
    found: list[NeededBy] = []
    notes: list[str] = []
    once = Once()
    reports = reports_of(
        checkouts, lambda one: verify_report(verify(one, environment, once=once), strict=False), "verify"
    )
    for place, each in zip(checkouts, reports, strict=True):
        name = _name(place, folder)
        found += [_of(name, tool, needs) for tool in tools if (needs := _needs_of(each, tool))]
        notes += [f"{name}: {note}" for note in each.notes if not each.requirements and each.verdict == "unknown"]
    reached = {(each.tool, each.path) for each in found}
    idle = [
        copy for copy in report.installations if copy.tool in tools and not copy.own and not _is_reached(copy, reached)
    ]
    told = [f"no checkout below {folder} reaches {copy.path} ({copy.version or 'no version given'})" for copy in idle]
    return msgspec.structs.replace(report, needed_by=tuple(found), notes=(*report.notes, *map(clean, (*notes, *told))))


def _name(place: Path, folder: Path) -> str:
    return clean(place.relative_to(folder).as_posix() if place != folder else place.name, 200)


def _needs_of(report: Report, tool: str) -> list[Finding]:
    return [
        each
        for each in report.requirements
        if each.tool == tool and each.kind == "tool" and each.strength == "required"
    ]


def _of(name: str, tool: str, needs: Sequence[Finding]) -> NeededBy:
    """Return one line for all that a checkout asks of a tool: the worst of it, and the copy that it reaches."""
    first = next((each for each in needs if each.verdict in UNMET_VERDICTS), needs[0])
    copy = next((each.found for each in needs if each.found), None)
    return NeededBy(
        project=name,
        tool=tool,
        accepts=" and ".join(dict.fromkeys(each.accepts for each in needs)),
        verdict=first.verdict or "unknown",
        version=copy.version if copy else None,
        path=copy.path if copy else None,
    )


def _is_reached(copy: Installation, reached: set[tuple[str, str | None]]) -> bool:
    return any((copy.tool, path) in reached for path in (copy.path, copy.program, copy.via))
