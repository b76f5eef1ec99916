"""What would be declared by what was proven, drawn for people; the change itself can be piped to `git apply`."""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from dokimon.cli.screen.common import short
from dokimon.core.report.model import Suggested


def draw_suggested(console: Console, suggested: Suggested) -> None:
    """Draw what was proven, what would be declared by it, and the change as a patch."""
    for sentence in suggested.by:
        console.print(Text(short(sentence), style="dim"))
    for each in suggested.suggestions:
        place = f"{each.file}:{each.line}: " if each.file and each.line else ""
        console.print(Text.assemble((place, "bold"), short(each.says)))
        if each.after and not each.before:
            console.print(Text(each.after.rstrip(), style="cyan"), soft_wrap=True)
    if not suggested.suggestions:
        console.print(Text("Nothing to change: what is declared is true of every version that was tried."))
    if suggested.change:
        console.print()
        console.print(Text(suggested.change.rstrip("\n"), style="cyan"), soft_wrap=True)
