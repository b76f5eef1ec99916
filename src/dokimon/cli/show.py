"""`dokimon show`"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from dokimon.cli.options import Format, FormatOption, NoColorOption, OutputOption, QuietOption, VerboseOption

if TYPE_CHECKING:
    from rich.console import Console

    from dokimon.core.report.model import Report

EXAMPLE = "Example: dokimon show report.json --format html --output report.html"


def show(
    reports: Annotated[
        list[Path],
        typer.Argument(
            metavar="REPORT...", help="A file that --format json wrote; several of --across are put together."
        ),
    ],
    form: FormatOption = Format.table,
    output: OutputOption = None,
    share: Annotated[
        bool,
        typer.Option("--share", help="Leave out what is private about this user and machine; see docs/history.md."),
    ] = False,
    quiet: QuietOption = False,
    verbose: VerboseOption = False,
    no_color: NoColorOption = False,
) -> None:
    """Draw a saved report again, in any format. Nothing is looked at, and nothing is run."""
    import os

    from dokimon.cli.showing import deliver, refuse
    from dokimon.core.proving.across import put_together
    from dokimon.core.report.reading import ReportFault, read_report

    try:
        read = [read_report(each) for each in reports]
        found = put_together(read) if len(read) > 1 else read[0]
    except ReportFault as wrong:
        refuse(f"{wrong.file} {wrong.reason}".strip())
    if share:
        from dokimon.core.report.sharing import Private, shared

        found = shared(found, Private(os.environ))

    def draw(console: Console) -> None:
        _draw(console, found, quiet=quiet, verbose=verbose)

    deliver(found, form, output, no_color, draw, as_it_is=True)


def _draw(console: Console, report: Report, *, quiet: bool, verbose: bool) -> None:
    if report.across:
        from dokimon.cli.screen.across import draw_across

        draw_across(console, report, report.across)
    elif report.plan:
        from dokimon.cli.screen.plan import draw_plan

        draw_plan(console, report)
    elif report.command == "smoke":
        from dokimon.cli.screen.smoke import draw_smoke

        draw_smoke(console, report, quiet=quiet, verbose=verbose)
    elif report.command == "needs":
        from dokimon.cli.screen.needs import draw_needs

        draw_needs(console, report, quiet=quiet, verbose=verbose)
    elif report.command == "tools":
        from dokimon.cli.screen.tools import draw_tools

        draw_tools(console, report, quiet=quiet, verbose=verbose)
    else:
        from dokimon.cli.screen.verify import draw_verify

        draw_verify(console, report, quiet=quiet, verbose=verbose)
