"""What is other, drawn for people: the same lines end a report that no longer passes."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from dokimon.cli.screen.common import short, verdict_text
from dokimon.core.records.remembering import shown_time
from dokimon.core.report.comparison import MATTERS, Comparison
from dokimon.core.report.model import Changes, Difference

_MOST = 6
_STYLES = {"named": "bold", "used": "", "major": "", "minor": "dim"}
_WORDS = {
    "named": "named by what failed",
    "used": "used by what runs here",
    "major": "other great differences",
    "minor": "smaller differences",
}
_MOST_OF_ONE = 12


def draw_changes(console: Console, changes: Changes) -> None:
    """Draw what is other since it last passed: the most telling few, and how many more there are."""
    commit = f", commit {changes.commit[:7]}" if changes.commit else ""
    when = f"since it last passed ({shown_time(changes.at)}{commit}):"
    matter = [each for each in changes.differences if each.weight in MATTERS]
    shown = (matter or list(changes.differences))[:_MOST]
    if not shown:
        console.print(Text(f"{when} nothing that Dokimon looks at is other", style="dim"))
        return
    console.print(Text(when, style="bold"))
    for each in shown:
        console.print(Padding(_line(each), (0, 0, 0, 2), expand=False))
    more = len(changes.differences) - len(shown)
    if more:
        console.print(Text(f"  and {more} more: dokimon compare lists them", style="dim"))


def draw_comparison(console: Console, comparison: Comparison, *, quiet: bool, verbose: bool) -> None:
    """Draw a comparison: the two sides, what came out otherwise, what differs by how much it may matter."""
    if not quiet:
        console.print(_sides(comparison))
        console.print()
    if comparison.results:
        console.print(Text("came out otherwise", style="dim"))
        for each in comparison.results:
            console.print(Padding(Text(short(each.says)), (0, 0, 0, 2), expand=False))
        console.print()
    for weight in ("named", "used", "major", "minor"):
        of_weight = [each for each in comparison.differences if each.weight == weight]
        if of_weight and not (quiet and weight == "minor"):
            _draw_weight(console, weight, of_weight, verbose=verbose)
    for what in comparison.not_compared:
        console.print(Text(f"not compared: {what}", style="yellow"))
    console.print(_closing(comparison))


def _sides(comparison: Comparison) -> Table:
    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), show_header=False)
    for _ in range(3):
        table.add_column(overflow="fold")
    table.add_row(Text(comparison.project.name, style="bold"), Text(short(comparison.project.root), style="dim"), "")
    apart = comparison.before.system != comparison.after.system
    for side in (comparison.before, comparison.after):
        known = [side.command or "", f"commit {side.commit[:7]}" if side.commit else ""]
        known += [side.system or ""] if apart else []
        verdict = verdict_text(side.verdict or "")
        table.add_row(Text(side.of), verdict, Text(", ".join(word for word in known if word), style="dim"))
    return table


def _draw_weight(console: Console, weight: str, found: Sequence[Difference], *, verbose: bool) -> None:
    console.print(Text(_WORDS[weight], style="dim"))
    few = found if verbose or weight in MATTERS else found[:_MOST]
    for each in few:
        console.print(Padding(_line(each, verbose=verbose), (0, 0, 0, 2), expand=False))
    if len(found) > len(few):
        console.print(Text(f"  and {len(found) - len(few)} more: --verbose lists them", style="dim"))
    console.print()


def _line(difference: Difference, *, verbose: bool = False) -> Text:
    text = Text(short(difference.says), style=_STYLES[difference.weight])
    if difference.group == "tools":
        for consequence in difference.more:
            text.append(f"; {short(consequence)}")
    elif verbose and len(difference.more) > 1:
        for change in difference.more[:_MOST_OF_ONE]:
            text.append(f"\n  {change}", style="dim")
        if len(difference.more) > _MOST_OF_ONE:
            text.append(f"\n  and {len(difference.more) - _MOST_OF_ONE} more", style="dim")
    return text


def _closing(comparison: Comparison) -> Text:
    many = [each for each in comparison.differences if each.weight in MATTERS]
    text = Text(f"{comparison.project.name}: ")
    if many:
        return text.append(
            f"{len(many)} of {len(comparison.differences)} differences may matter", style="bold yellow"
        ).append(f" · first {short(many[0].says)}")
    if comparison.matters:
        return text.append("it came out otherwise, and nothing that Dokimon looks at is other", style="bold yellow")
    if comparison.differences:
        count = len(comparison.differences)
        return text.append(
            f"nothing that matters differs ({count} smaller difference{'s' if count > 1 else ''})", style="green"
        )
    return text.append("nothing differs", style="green")
