"""What came of a project under several versions of a tool, drawn for people."""

from __future__ import annotations

from rich.console import Console
from rich.table import Table
from rich.text import Text

from dokimon.cli.screen.common import heading, short, verdict_text
from dokimon.core.report.model import Across, Report


def draw_across(console: Console, report: Report, across: Across) -> None:
    """Draw a row for each version, then what is proven."""
    console.print(heading(report))
    console.print()
    if across.tried:
        table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
        for name in (across.tool, "declared", "verdict"):
            table.add_column(name, no_wrap=True)
        for name in ("prepare", "up"):
            table.add_column(name, no_wrap=True, justify="right")
        table.add_column("checks, or what failed first", overflow="fold")
        for each in across.tried:
            declared = Text("yes") if each.declared else Text("no", style="dim")
            seen = short(each.cause or each.checks or "")
            table.add_row(
                Text(each.version, style="bold"), declared, verdict_text(each.verdict), _time(each.prepare_seconds),
                _time(each.up_seconds), Text(seen),
            )  # fmt: skip
        console.print(table)
        console.print()
    for sentence in across.says:
        console.print(Text(short(sentence)))
    text = Text.assemble(f"{report.project.name}: ", verdict_text(report.verdict))
    console.print(text.append(" (interrupted)") if report.interrupted else text)


def _time(seconds: float | None) -> Text:
    return Text("" if seconds is None else f"{seconds:.1f} s")
