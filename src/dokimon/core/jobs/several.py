"""`needs` and `verify` of several checkouts: a folder of them, or some by name. A fault in one hides no other."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import Literal

from dokimon.core.declarations.checkout import find_checkout, projects_below
from dokimon.core.faults import Fault
from dokimon.core.report.model import FORMAT, FORMAT_MINOR, Project, Report
from dokimon.core.report.outcome import exit_status
from dokimon.core.settings.tables import SettingsFault
from dokimon.core.text import clean


def checkouts_in(folders: Sequence[Path]) -> list[Path]:
    """Return the projects that are meant: each folder itself, or those below it where it is none; each once."""
    found: dict[Path, None] = {}
    for folder in folders:
        below = [] if find_checkout(folder).deep else projects_below(folder)
        found |= dict.fromkeys([folder / name for name in below] or [folder])
    return list(found)


def reports_of(
    folders: Iterable[Path], report: Callable[[Path], Report], command: Literal["needs", "verify", "smoke"]
) -> list[Report]:
    """Return a report for each folder; one that cannot be used is unknown, with the reason as its note."""
    return [report_or_reason(folder, report, command) for folder in folders]


def report_or_reason(
    folder: Path, report: Callable[[Path], Report], command: Literal["needs", "verify", "smoke"]
) -> Report:
    """Return the report of a folder, or one that says why there is none: its settings, no way to start it, no clone."""
    try:
        return report(folder)
    except Fault as fault:
        if fault.of_call:
            raise
        why = _in_words(fault)
    except Exception as wrong:  # one project that shows a mistake of ours never hides the others
        why = f"a bug in Dokimon, please report it: {type(wrong).__name__}: {wrong}"
    return Report(
        format=FORMAT,
        minor=FORMAT_MINOR,
        command=command,
        verdict="unsure" if command == "smoke" else "unknown",
        project=Project(root=clean(str(folder)), name=clean(folder.name, 80)),
        requirements=(),
        notes=(clean(why),),
    )


def _in_words(fault: Fault) -> str:
    if isinstance(fault, SettingsFault) and fault.problems:
        first = fault.problems[0]
        more = f" (and {len(fault.problems) - 1} more)" if len(fault.problems) > 1 else ""
        return f"{fault.file}:{first.line}: {first.says}{more}"
    return str(fault).partition("\n")[0]


def status_of(reports: Sequence[Report]) -> int:
    """Return the exit status of all together: 1 where one is not fit, 3 where one is not known, else 0."""
    found = {exit_status(report) for report in reports}
    return next((status for status in (130, 1, 3) if status in found), 0)
