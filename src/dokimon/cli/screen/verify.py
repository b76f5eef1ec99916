"""The report of `verify`, drawn for people."""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from dokimon.cli.screen.common import (
    draw_picked,
    draw_projects_below,
    draw_remedies,
    findings_table,
    heading,
    short,
    verdict_text,
)
from dokimon.core.report.model import Report
from dokimon.core.report.summary import counts_of_needs, first_wrong


def draw_verify(console: Console, report: Report, *, quiet: bool, verbose: bool) -> None:
    """Draw the report of `verify`: the table of findings, what to do, and one closing line."""
    judged = [finding for finding in report.requirements if finding.verdict]
    # Whoever cannot run the project here at all wants to know that before anything else.
    judged.sort(key=lambda finding: not (finding.kind == "platform" and finding.verdict == "unmet"))
    shown = [finding for finding in judged if finding.verdict != "met"] if quiet else judged
    if not quiet:
        console.print(heading(report))
        console.print()
    if report.supposed:
        says = (
            f"supposed: {', '.join(report.supposed)}; judged as if a command reached that. This machine is as it was."
        )
        console.print(Text(says, style="cyan"))
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
        console.print(Text(f"note: {short(note)}", style="yellow"))
    draw_picked(console, report)
    draw_projects_below(console, report, "verify")
    if report.since_passed:
        from dokimon.cli.screen.compare import draw_changes

        draw_changes(console, report.since_passed)
        console.print()
    if judged or not report.projects_below:
        console.print(_closing(report))


def _closing(report: Report) -> Text:
    """Say how it went, the first need that is wrong with its reason, and how many are met."""
    judged = [finding for finding in report.requirements if finding.verdict]
    if not judged:
        text = Text("No requirements found in any file that Dokimon reads.")
        if report.verdict == "unknown":
            text.append(" So nothing was verified: is it the right folder? (--allow-none says that it is)")
        return text
    text = Text.assemble(f"{report.project.name}: ", verdict_text(report.verdict))
    wrong = first_wrong(report)
    if wrong:
        text.append(f" · {short(wrong)}")
    return text.append(f" · {counts_of_needs(judged)}")
