"""What `smoke --show-plan` draws: the steps and runs that there would be, each with where it was read."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from dokimon.cli.screen.common import heading
from dokimon.core.report.model import PlannedRun, PlannedStep, Report
from dokimon.core.source import Source


def draw_plan(console: Console, report: Report) -> None:
    """Draw the plan of the report."""
    assert report.plan is not None
    console.print(heading(report))
    console.print()
    table = Table(box=None, pad_edge=False, padding=(0, 3, 0, 0), header_style="dim")
    table.add_column("", no_wrap=True)
    table.add_column("command", overflow="fold")
    table.add_column("what of it", overflow="fold")
    for step in report.plan.prepare:
        command = _command(step.command, step.folder, step.source)
        needed = Text(step.needed, style="yellow") if step.needed else Text("not needed now", style="dim")
        table.add_row(Text.assemble(("prepare ", "dim"), (step.title, "bold")), command, needed)
    for run in report.plan.runs:
        table.add_row(
            Text.assemble(("run ", "dim"), (run.name, "bold")),
            _command(run.command, run.folder, run.source),
            _about(run),
        )
    console.print(table)
    console.print()
    draw_others(console, report.plan.others)
    steps = sum(1 for step in report.plan.prepare if step.needed)
    console.print(_closing(steps, len(report.plan.runs), report.plan.prepare))


_MOST_OTHERS = 6


def draw_others(console: Console, others: Sequence[PlannedRun]) -> None:
    """Draw the other ways to start the project, each with the option that takes it and where it was read."""
    if not others:
        return
    table = Table.grid(padding=(0, 3, 0, 0))
    table.add_column(no_wrap=True)
    table.add_column(overflow="fold")
    table.add_column(overflow="fold", style="dim")
    for run in others[:_MOST_OTHERS]:
        place = f"{run.source.file}:{run.source.line}" if run.source else ""
        name = f'"{run.name}"' if " " in run.name else run.name
        table.add_row(f"--run {name}", run.command, place + (" shows it" if run.proposal else ""))
    more = len(others) - _MOST_OTHERS
    title = "other ways to start it" + (f", and {more} more" if more > 0 else "")
    console.print(Text(title, style="dim"))
    console.print(Padding(table, (0, 0, 1, 2), expand=False))


def _command(command: str, folder: str | None, source: Source | None) -> Text:
    text = Text(command)
    if folder:
        text.append(f"  in {folder}", style="dim")
    if source:
        text.append(f"\nfrom {source.file}:{source.line}", style="dim")
    return text


def _about(run: PlannedRun) -> Text:
    words = [f"a {run.kind}" if run.kind else "shows itself whether it serves or ends"]
    if run.port:
        words.append("on a free port" if run.port == "any" else f"usually on port {run.port}")
    if run.after:
        words.append(f"after {' and '.join(run.after)}, which stays up")
    text = Text(", ".join(words))
    if run.checks:
        text.append(f"\nchecked: {', '.join(run.checks)}", style="dim")
    return text


def _closing(needed: int, runs: int, steps: tuple[PlannedStep, ...]) -> Text:
    done = f"{needed} of {len(steps)} prepare steps needed now, " if steps else ""
    ways = "1 run" if runs == 1 else f"{runs} runs"
    return Text(f"{done}{ways}. Nothing was run.")
