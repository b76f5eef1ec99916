"""Several checkouts at a glance: a row each, with the first cause; all of each with --verbose."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence

from rich.console import Console
from rich.table import Table
from rich.text import Text

from dokimon.cli.screen.common import short, verdict_text
from dokimon.core.report.folding import subject_of
from dokimon.core.report.model import Report
from dokimon.core.report.summary import counts_of_checks, first_wrong
from dokimon.core.text import counted

_MOST_NEEDS = 6


def draw_several(
    console: Console, reports: Sequence[Report], *, quiet: bool, verbose: bool, draw: Callable[[Report], None]
) -> None:
    """Draw a row for each report, and one closing line; `draw` draws all of one."""
    if not reports:
        return
    if reports[0].supposed:
        console.print(Text(f"supposed: {', '.join(reports[0].supposed)}; this machine is as it was", style="cyan"))
        console.print()
    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    table.add_column("project", overflow="fold", max_width=28)
    table.add_column(_WHAT.get(_kind(reports), "needs"), overflow="fold", ratio=2)
    table.add_column("verdict", no_wrap=True)
    table.add_column("what is wrong first", overflow="fold", ratio=3)
    names = _names(reports)
    for name, report in zip(names, reports, strict=True):
        if not (quiet and report.verdict in WELL):
            what = {"smoke": _runs, "plan": _planned}.get(_kind(reports), _needs)(report)
            cause = _first(report) or (counts_of_checks(report) if report.runs else "")
            table.add_row(Text(name, style="bold"), Text(short(what)), verdict_text(report.verdict), Text(short(cause)))
    console.print(table)
    console.print()
    for name, report in zip(names, reports, strict=True) if verbose else ():
        console.rule(name, style="dim")
        draw(report)
    console.print(_closing(reports, names))


def _names(reports: Sequence[Report]) -> list[str]:
    """Return how each is called: its folder, as far as it is not that of all."""
    folders = [
        f"{each.project.root}/{each.project.folder}" if each.project.folder else each.project.root for each in reports
    ]
    common = os.path.commonpath(folders) if len(folders) > 1 and all(map(os.path.isabs, folders)) else ""
    return [os.path.relpath(folder, common) if common else folder.rpartition("/")[2] for folder in folders]


_WHAT = {"plan": "what would be done", "smoke": "what was run"}
WELL = ("met", "passed")


def _kind(reports: Sequence[Report]) -> str:
    if reports[0].command != "smoke":
        return "needs"
    return "plan" if any(each.plan for each in reports) else "smoke"


def _runs(report: Report) -> str:
    ups = [f"{run.name} (up after {run.up_seconds:.1f} s)" if run.up_seconds else run.name for run in report.runs or ()]
    return ", ".join(ups)


def _planned(report: Report) -> str:
    if report.plan is None:
        return ""
    steps = [step.title for step in report.plan.prepare if step.needed]
    return ", ".join([*steps, *(run.command for run in report.plan.runs)])


def _needs(report: Report) -> str:
    required = [each for each in report.requirements if each.strength == "required" and each.kind != "fact"]
    names = list(dict.fromkeys(subject_of(each) for each in required))
    return ", ".join(names[:_MOST_NEEDS]) + (
        f" and {len(names) - _MOST_NEEDS} more" if len(names) > _MOST_NEEDS else ""
    )


def _first(report: Report) -> str:
    if report.conflicts:
        return f"{report.conflicts[0].tool}: {report.conflicts[0].reason}"
    if report.interrupted:
        return "interrupted"
    if report.verdict in WELL:
        return ""
    return first_wrong(report) or next(iter(report.notes), "")


def _closing(reports: Sequence[Report], names: Sequence[str]) -> Text:
    well = sum(report.verdict in WELL for report in reports)
    text = Text(f"{well} of {counted(len(reports), 'project')} ")
    wrong = next((number for number, report in enumerate(reports) if report.verdict not in WELL), None)
    says = {"needs": "agree", "verify": "fit", "smoke": "fit" if _kind(reports) == "plan" else "passed"}
    text.append(says.get(reports[0].command, "fit"), style="green" if wrong is None else "")
    return text if wrong is None else text.append(f" · first {names[wrong]}: {short(_first(reports[wrong]))}")
