"""The report of `needs`, drawn for people."""

from __future__ import annotations

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from dokimon.cli.screen.common import (
    VERDICT_STYLES,
    accepted,
    draw_projects_below,
    draw_unread,
    heading,
    quoted_source,
    short,
)
from dokimon.core.report.folding import Folded, fold, subject_of
from dokimon.core.report.model import Report


def draw_needs(console: Console, report: Report, *, quiet: bool, verbose: bool) -> None:
    """Draw the declarations by part, then what they come to together, contradictions last."""
    if not quiet:
        console.print(heading(report))
        console.print()
        _draw_declarations(console, report, verbose=verbose)
    wrong = [each for each in report.requirements if each.reason and (each.strength == "required" or verbose)]
    for finding in wrong:
        about = short(finding.reason or "")
        console.print(Text.assemble((subject_of(finding), "bold"), (" unknown", "bold yellow"), f": {about}"))
        draw_unread(console, finding)
    for note in report.notes:
        console.print(Text.assemble(("drift", "yellow"), f": {note}"))
    for conflict in report.conflicts:
        console.print(Text.assemble((conflict.tool, "bold"), (" conflict", "bold red"), f": {conflict.reason}"))
    if report.agreed and not quiet:
        if wrong or report.notes or report.conflicts:
            console.print()
        _draw_agreed(console, report)
    draw_projects_below(console, report, "needs")
    if report.requirements or not report.projects_below:
        console.print(_closing(report))


def _draw_declarations(console: Console, report: Report, *, verbose: bool) -> None:
    folded = fold(report.requirements)
    shown = [each for each in folded if verbose or each.finding.kind != "fact"]
    if shown:
        _draw_parts(console, shown)
        console.print()
    facts = [each.finding for each in folded if each.finding.kind == "fact"]
    if facts and not verbose:
        listed = ", ".join(f"{each.component or each.tool} {each.wanted}" for each in facts)
        console.print(Text(f"set by the project itself: {listed}", style="dim"))
        console.print()


_WIDEST_SUBJECT, _WIDEST_WORDS = 30, 36
"""Columns that the first two may take; what is quoted from a file gets the rest, and is cut where it is too long."""


def _draw_parts(console: Console, shown: list[Folded]) -> None:
    """Draw the declarations of the root, then those of each part below its name, in aligned columns."""
    by_part: dict[str | None, list[Folded]] = {}
    for each in shown:
        by_part.setdefault(each.finding.part, []).append(each)
    subjects = max(len(subject_of(each.finding)) + (2 if each.finding.part else 0) for each in shown)
    words = max(accepted(each.finding).cell_len for each in shown)
    widths = min(max(subjects, 5), _WIDEST_SUBJECT), min(max(words, 7), _WIDEST_WORDS)
    for part, members in by_part.items():
        if part:
            console.print(Text(f"{part}/", style="dim"))
        first = members is next(iter(by_part.values()))
        console.print(_table(members, widths, console.width - sum(widths) - 6, header=first))


def _table(members: list[Folded], widths: tuple[int, int], rest: int, *, header: bool) -> Table:
    table = Table(box=None, pad_edge=False, padding=(0, 3, 0, 0), header_style="dim", show_header=header)
    table.add_column("needs", overflow="fold", width=widths[0])
    table.add_column("accepts", overflow="fold", width=widths[1])
    table.add_column("asked for by", no_wrap=True)
    for each in members:
        finding = each.finding
        subject = ("  " if finding.part else "") + subject_of(finding)
        style = "bold" if finding.strength == "required" else ""
        source = quoted_source(each)
        source.truncate(max(rest, len(finding.source.file) + 6), overflow="ellipsis")
        table.add_row(Text(subject, style=style), accepted(finding), source)
    return table


def _draw_agreed(console: Console, report: Report) -> None:
    """Say what to install so that all required declarations are met; side by side where folders differ."""
    apart = any(each.places for each in report.agreed)
    what = "What meets them all, in some folders different versions side by side:" if apart else "What meets them all:"
    console.print(Text(what, style="dim"))
    for each in report.agreed:
        where = f" in {_places(each.places)}" if each.places else ""
        line = Text.assemble((each.tool, "bold"), f" {each.accepts}{where}")
        if each.newest:
            line.append(f"; the newest line that does is {each.newest}")
        console.print(Padding(line, (0, 0, 0, 2), expand=False))
    console.print()


_MOST_PLACES = 4


def _places(places: tuple[str, ...]) -> str:
    named = ["the root" if each == "." else f"{each}/" for each in places[:_MOST_PLACES]]
    more = f" and {len(places) - _MOST_PLACES} more" if len(places) > _MOST_PLACES else ""
    return ", ".join(named) + more


def _closing(report: Report) -> Text:
    needs = [each for each in report.requirements if each.kind != "fact"]
    required = sum(1 for each in needs if each.strength == "required")
    if not needs:
        return Text("No requirements found in any file that Dokimon reads.")
    text = Text(f"{required} required and {len(needs) - required} advised: ")
    if report.conflicts:
        return text.append("they contradict each other", style=VERDICT_STYLES["conflict"])
    if report.verdict == "unknown":
        return text.append("not all of them could be read", style=VERDICT_STYLES["unknown"])
    return text.append("they agree", style=VERDICT_STYLES["met"])
