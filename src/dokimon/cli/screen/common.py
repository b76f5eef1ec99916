"""What the drawn reports share. All text from outside comes as plain `Text`, never as markup."""

from __future__ import annotations

import os
from collections.abc import Iterable
from functools import cache
from pathlib import Path

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from dokimon.core.report.folding import Folded, fold, fold_met, subject_of
from dokimon.core.report.model import Finding, Remedy, Report
from dokimon.core.text import clean, counted

VERDICT_STYLES = {
    "met": "green",
    "passed": "green",
    "unmet": "bold red",
    "missing": "bold red",
    "off-path": "bold red",
    "conflict": "bold red",
    "failed": "bold red",
    "unknown": "bold yellow",
    "unsure": "bold yellow",
    "skipped": "dim",
}

_QUOTE = 40
"""Characters of a quoted line that a table has room for."""


def verdict_text(verdict: str, advised: bool = False) -> Text:
    """Return a verdict in its colour; where it is only advice, never in the colour of a failure."""
    style = VERDICT_STYLES.get(verdict, "")
    return Text(verdict, style="yellow" if advised and "red" in style else style)


@cache
def _home() -> str:
    return str(Path.home()) + os.sep


def short(text: str) -> str:
    """Return a text with the home folder in its paths as `~`."""
    return text.replace(_home(), f"~{os.sep}") if len(_home()) > 1 else text


def heading(report: Report) -> Text:
    """Return the line above a report: whose project, and where."""
    folder = report.project.root + (f"/{report.project.folder}" if report.project.folder else "")
    return Text.assemble((report.project.name, "bold"), ("  " + short(folder), "dim"))


def draw_picked(console: Console, report: Report) -> None:
    """Say which folders were put first on PATH for this call."""
    words = [f"{', '.join(map(short, report.picked))} first on PATH"] if report.picked else []
    words += [f"{name}={short(value)}" for name, value in report.picked_variables.items()]
    if words:
        console.print(Text(f"picked: with {' and '.join(words)}, for this call alone", style="cyan"))


def findings_table(findings: Iterable[Finding]) -> Table:
    """Return the findings as a table, two lines each: the finding, and below it where it was declared."""
    table = Table(box=None, pad_edge=False, padding=(0, 3, 0, 0), header_style="dim")
    table.add_column("needs", no_wrap=True)
    table.add_column("accepts", ratio=3)
    table.add_column("found", ratio=4)
    table.add_column("verdict", no_wrap=True)
    for folded in fold_met(findings):
        finding = folded.finding
        accepts = accepted(finding, folded.ranges).append("\n").append_text(quoted_source(folded))
        verdict = verdict_text(finding.verdict or "", finding.strength == "advised")
        table.add_row(Text(subject_of(finding), style="bold"), accepts, _found(finding), verdict)
    return table


def accepted(finding: Finding, ranges: int = 1) -> Text:
    """Return what is accepted: in words, unless the project's own words are much shorter (`lts/*`)."""
    words = finding.accepts if len(finding.accepts) <= 48 or not finding.wanted else finding.wanted
    text = Text(words if ranges == 1 else f"{ranges} ranges")
    is_advice = finding.strength == "advised" and finding.kind != "fact"
    return text.append(" (advised)", style="italic") if is_advice else text


def quoted_source(folded: Folded) -> Text:
    """Return the file and line that ask for it, how many more say the same, and the quoted text."""
    source = folded.finding.source
    if folded.ranges > 1:
        return Text(f"{source.file}: {counted(folded.more + 1, 'declaration')}", style="dim")
    text = Text(source.place, style="dim")
    if folded.more:
        text.append(f" and {folded.more} more")
    return text.append(f"  {clean(source.text, _QUOTE)}", style="dim italic") if source.text else text


def _found(finding: Finding) -> Text:
    found = finding.found
    if found is None:
        return Text("nothing" if finding.verdict == "missing" else "")
    text = Text(found.version or "no version given")
    text.append(f"\n{short(found.path)}", style="dim")
    return text


def draw_unread(console: Console, finding: Finding) -> None:
    """Draw a constraint that cannot be read, with a mark under the place where reading stopped."""
    if finding.wrong_at is None:
        return
    console.print(Text(f"      {finding.wanted}"), soft_wrap=True)
    console.print(Text(f"      {' ' * finding.wrong_at}^", style="yellow"), soft_wrap=True)


def draw_remedies(console: Console, findings: Iterable[Finding]) -> None:
    """Draw what is not met: all that is wrong with one tool as one block, its reasons, then what to do about it."""
    blocks: dict[str, list[Finding]] = {}
    for folded in fold(each for each in findings if each.verdict not in ("met", None)):
        blocks.setdefault(subject_of(folded.finding), []).append(folded.finding)
    shown: set[Remedy] = set()
    for subject, block in blocks.items():
        for finding in block:
            verdict = verdict_text(finding.verdict or "", finding.strength == "advised")
            # Several needs of one tool are told apart by who asks.
            asked = f" (asked for by {finding.source.place})" if len(block) > 1 else ""
            reason = short(finding.reason or "")
            console.print(Text.assemble((subject, "bold"), " ", verdict, f": {reason}", (asked, "dim")))
            draw_unread(console, finding)
        for why in dict.fromkeys(finding.why for finding in block if finding.why):
            console.print(Padding(Text(f"needed because {why}"), (0, 0, 0, 2), expand=False))
        steps = _steps_of(block)
        # One step often helps two tools.
        if steps and steps[0] in shown and steps[0].command:
            console.print(Padding(Text("→ as above"), (0, 0, 0, 2), expand=False))
        else:
            draw_steps(console, steps)
        shown.update(steps[:1])
        console.print()


def _steps_of(block: list[Finding]) -> list[Remedy]:
    """Return what to do about all that is wrong with one tool, each step once; advice asks for nothing beside a need."""
    required = [finding for finding in block if finding.strength == "required"] or block
    return list(dict.fromkeys(step for finding in required for step in finding.remedies))


def draw_steps(console: Console, remedies: Iterable[Remedy], indent: int = 2) -> None:
    """Draw remedies: a sentence each, and the command on a line of its own, ready to copy."""
    for remedy in remedies:
        console.print(Padding(Text(f"→ {short(remedy.say)}"), (0, 0, 0, indent), expand=False))
        if remedy.command:  # one line, fit to be copied
            console.print(Text(f"{' ' * (indent + 4)}{remedy.command}", style="cyan"), soft_wrap=True)


def draw_projects_below(console: Console, report: Report, command: str) -> None:
    """Say which projects are below a folder that is not one itself, and how to go on."""
    if not report.projects_below:
        return
    console.print("This folder is not a project, but contains some:")
    for name in report.projects_below[:_MOST_PROJECTS]:
        console.print(Text(f"  {name}"))
    if len(report.projects_below) > _MOST_PROJECTS:
        console.print(Text(f"  and {len(report.projects_below) - _MOST_PROJECTS} more", style="dim"))
    console.print(Text.assemble("→ name one: ", (f"dokimon {command} {report.projects_below[0]}", "cyan")))


_MOST_PROJECTS = 12
