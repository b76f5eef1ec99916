"""What came of a project under several versions of a tool, drawn for people."""

from __future__ import annotations

from collections.abc import Iterator

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
        for name in (across.tool, *(each.tool for each in across.beside), "declared", "verdict"):
            table.add_column(name, no_wrap=True)
        for name in ("prepare", "up"):
            table.add_column(name, no_wrap=True, justify="right")
        table.add_column("checks, or what failed first", overflow="fold")
        for each in across.tried:
            declared = Text("yes") if each.declared else Text("no", style="dim")
            seen = short(each.cause or each.checks or "")
            table.add_row(
                Text(each.version, style="bold"), *(Text(one.version, style="bold") for one in each.beside), declared,
                verdict_text(each.verdict), _time(each.prepare_seconds),
                _time(each.up_seconds), Text(seen),
            )  # fmt: skip
        console.print(table)
        console.print()
    for sentence in across.says:
        console.print(Text(short(sentence)))
    for line in _not_tried(across):
        console.print(line)
    text = Text.assemble(f"{report.project.name}: ", verdict_text(report.verdict))
    console.print(text.append(" (interrupted)") if report.interrupted else text)


def _not_tried(across: Across) -> Iterator[Text]:
    """Yield what is declared and not here: those that a command brings with it, the others together."""
    bare = []
    for each in across.not_tried:
        command = next((remedy.command for remedy in each.remedies if remedy.command), None)
        if command:
            text = Text(short(f"not tried, as no copy is here: {each.tool} {each.version}; to get one: "))
            yield text.append(short(command), style="cyan")
        else:
            bare.append(f"{each.tool} {each.version}")
    if bare:
        how = next((each.say for one in across.not_tried for each in one.remedies[:1] if not each.command), "")
        yield Text(short(f"not tried, as no copy is here: {', '.join(bare)}{_in_general(how)}"))


def _in_general(how: str) -> str:
    """Return where the versions come from, without the one that the advice names."""
    _, found, place = how.partition(", from ")
    return f" (from {place.partition(';')[0]})" if found else ""


def _time(seconds: float | None) -> Text:
    return Text("" if seconds is None else f"{seconds:.1f} s")
