"""Reports drawn for people, with Rich. All text from outside comes as plain `Text`, never as markup."""

from __future__ import annotations

import os
from collections.abc import Iterable
from pathlib import Path

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from dokimon.core.report.folding import fold, subject_of
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


def short_path(path: str) -> str:
    """Return a path with the home folder as `~`."""
    home = str(Path.home())
    return "~" + path[len(home) :] if path.startswith(home + os.sep) else path


def heading(report: Report) -> Text:
    """Return the line above a report: whose project, and where."""
    folder = report.project.root + (f"/{report.project.folder}" if report.project.folder else "")
    return Text.assemble((report.project.name, "bold"), ("  " + short_path(folder), "dim"))


def draw_verify(console: Console, report: Report, *, quiet: bool, verbose: bool) -> None:
    """Draw the report of `verify`: the table of findings, what to do, and one closing line."""
    judged = [finding for finding in report.requirements if finding.verdict]
    # Whoever cannot run the project here at all wants to know that before anything else.
    judged.sort(key=lambda finding: not (finding.kind == "platform" and finding.verdict == "unmet"))
    shown = [finding for finding in judged if finding.verdict != "met"] if quiet else judged
    if not quiet:
        console.print(heading(report))
        console.print()
    if shown:
        console.print(findings_table(shown))
        console.print()
    draw_remedies(console, shown)
    if verbose:
        from dokimon.cli.screen.tools import draw_copies

        draw_copies(console, report.installations, with_facts=True, verbose=True)
        console.print()
    for note in () if quiet else report.notes:
        console.print(Text(f"note: {note}", style="yellow"))
    draw_picked(console, report)
    console.print(_closing(report))


def draw_picked(console: Console, report: Report) -> None:
    """Say which folders were put first on PATH for this call."""
    if report.picked:
        folders = ", ".join(short_path(folder) for folder in report.picked)
        console.print(Text(f"picked: with {folders} first on PATH, for this call alone", style="cyan"))


def findings_table(findings: Iterable[Finding]) -> Table:
    """Return the findings as a table, two lines each: what was said, and below it where."""
    table = Table(box=None, pad_edge=False, padding=(0, 3, 0, 0), header_style="dim")
    table.add_column("needs", no_wrap=True)
    table.add_column("accepts", ratio=3)
    table.add_column("found", ratio=4)
    table.add_column("verdict", no_wrap=True)
    for folded in fold(findings):
        finding = folded.finding
        advised = finding.strength == "advised"
        accepts = accepted(finding).append("\n").append_text(quoted_source(finding, folded.more))
        table.add_row(
            Text(subject_of(finding), style="bold"),
            accepts,
            _found(finding),
            verdict_text(finding.verdict or "", advised),
        )
    return table


def accepted(finding: Finding) -> Text:
    """Return what is accepted: in words, unless the project's own words are much shorter (`lts/*`)."""
    words = finding.accepts if len(finding.accepts) <= 48 or not finding.wanted else finding.wanted
    text = Text(words)
    return (
        text.append(" (advised)", style="italic") if finding.strength == "advised" and finding.kind != "fact" else text
    )


def quoted_source(finding: Finding, more: int) -> Text:
    """Return the file and line that ask for it, how many more say the same, and what stands there."""
    text = Text(f"{finding.source.file}:{finding.source.line}", style="dim")
    if more:
        text.append(f" and {more} more")
    return text.append(f"  {clean(finding.source.text, _QUOTE)}", style="dim italic") if finding.source.text else text


def _found(finding: Finding) -> Text:
    found = finding.found
    if found is None:
        return Text("nothing" if finding.verdict == "missing" else "")
    text = Text(found.version or "no version told")
    text.append(f"\n{short_path(found.path)}", style="dim")
    return text


def draw_remedies(console: Console, findings: Iterable[Finding]) -> None:
    """Draw, for each finding that is not met, its reason and what to do about it."""
    shown: set[Remedy] = set()
    for folded in fold(each for each in findings if each.verdict not in ("met", None)):
        finding = folded.finding
        verdict = verdict_text(finding.verdict or "", finding.strength == "advised")
        line = Text.assemble((subject_of(finding), "bold"), " ", verdict, f": {finding.reason}")
        console.print(line)
        if finding.why:
            console.print(Padding(Text(f"asked for because {finding.why}"), (0, 0, 0, 2), expand=False))
        # Two needs of one tool are often mended by one step.
        first = finding.remedies[:1]
        if first and first[0] in shown and first[0].command:
            console.print(Padding(Text("→ as above"), (0, 0, 0, 2), expand=False))
        else:
            draw_steps(console, finding.remedies)
        shown.update(first)
        console.print()


def draw_steps(console: Console, remedies: Iterable[Remedy]) -> None:
    """Draw remedies: a sentence each, and the command on a line of its own, ready to copy."""
    for remedy in remedies:
        console.print(Padding(Text(f"→ {remedy.say}"), (0, 0, 0, 2), expand=False))
        if remedy.command:
            console.print(Text(f"      {remedy.command}", style="cyan"), soft_wrap=True)  # one line, fit to be copied


def _closing(report: Report) -> Text:
    """Count the verdicts: "4 needs: 3 met, 1 unmet (advised)"."""
    findings = [finding for finding in report.requirements if finding.verdict]
    if not findings:
        return Text("Nothing is declared here that Dokimon reads: no need, no verdict.")
    counts: dict[tuple[str, bool], int] = {}
    for finding in findings:
        key = (finding.verdict or "", finding.strength == "advised" and finding.verdict != "met")
        counts[key] = counts.get(key, 0) + 1
    text = Text(f"{counted(len(findings), 'need')}: ")
    for index, ((verdict, advised), count) in enumerate(counts.items()):
        text.append(", " if index else "").append(f"{count} ").append(verdict_text(verdict, advised))
        text.append(" (advised)" if advised else "")
    return text
