"""`dokimon compare`"""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from dokimon.cli.options import FolderArgument, NoColorOption, OutputOption, QuietOption, VerboseOption

if TYPE_CHECKING:
    from rich.console import Console

EXAMPLE = "Example: dokimon compare --with theirs.json"


class ComparisonFormat(StrEnum):
    """The forms in which a comparison can be had."""

    table = "table"
    json = "json"
    markdown = "markdown"


def compare(
    path: FolderArgument = Path(),
    since: Annotated[
        str | None,
        typer.Option("--since", metavar="WHEN", help="A date, a time, a revision, or the word last: that record."),
    ] = None,
    other: Annotated[
        Path | None,
        typer.Option(
            "--with", metavar="REPORT", help="A report from another machine (smoke --share -f json -o REPORT)."
        ),
    ] = None,
    form: Annotated[ComparisonFormat, typer.Option("--format", "-f", help="The form.")] = ComparisonFormat.table,
    output: OutputOption = None,
    quiet: QuietOption = False,
    verbose: VerboseOption = False,
    no_color: NoColorOption = False,
) -> None:
    """Say what is other than when it last passed, than at any record, or than in a report from another machine.

    Nothing of the project is run. Exit status 1: something differs that may matter.
    """
    import os

    from dokimon.cli.interruption import abandoning
    from dokimon.cli.showing import deliver_text, folder_asked, refuse, refusing, say
    from dokimon.core.jobs.compare import ComparisonFault, compare_with_record, compare_with_report
    from dokimon.core.report import comparison as encoding
    from dokimon.core.report.reading import ReportFault, read_report

    if since and other:
        refuse("--since names a record and --with a report: give one of them")
    folder = folder_asked(path)
    notes: list[str] = []
    try:
        with refusing(), abandoning():
            if other:
                found = compare_with_report(folder, os.environ, read_report(other))
            else:
                found, notes = compare_with_record(folder, os.environ, since)
    except ReportFault as wrong:
        refuse(f"{wrong.file} {wrong.reason}")
    except ComparisonFault as wrong:
        refuse(str(wrong))

    def draw(console: Console) -> None:
        from dokimon.cli.screen.compare import draw_comparison

        draw_comparison(console, found, quiet=quiet, verbose=verbose)

    texts = {ComparisonFormat.json: encoding.encode, ComparisonFormat.markdown: encoding.as_markdown}
    deliver_text(texts[form](found) if form in texts else None, output, no_color, draw)
    say(notes)
    raise typer.Exit(1 if found.matters else 0)
