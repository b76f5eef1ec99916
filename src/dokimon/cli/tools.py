"""`dokimon tools`"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from dokimon.cli.completing import complete_tools
from dokimon.cli.options import (
    AskOption,
    Format,
    FormatOption,
    FreshOption,
    NoColorOption,
    OutputOption,
    QuietOption,
    VerboseOption,
)

if TYPE_CHECKING:
    from rich.console import Console

EXAMPLE = "Example: dokimon tools node python"


def tools(
    names: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="NAME",
            help="Tools or commands; all tools of the catalogue by default.",
            autocompletion=complete_tools,
        ),
    ] = None,
    form: FormatOption = Format.table,
    output: OutputOption = None,
    needed_by: Annotated[
        Path | None,
        typer.Option(
            "--needed-by", metavar="FOLDER", help="Which checkouts below need these tools, and which copy each reaches."
        ),
    ] = None,
    fresh: FreshOption = False,
    ask: AskOption = None,
    quiet: QuietOption = False,
    verbose: VerboseOption = False,
    no_color: NoColorOption = False,
) -> None:
    """Show what this machine has: every copy, which one a command reaches, what lies off PATH.

    Name a tool of the catalogue or any command: why it is not reached and what helps is said, and what the project here
    wants of it. Of tools that you name, and of all with --verbose, components are shown too: extensions, packages, SDKs.
    Exit status 1: a tool that you named is not there.
    """
    import os

    from dokimon.cli.interruption import abandoning
    from dokimon.cli.showing import UNBOUNDED, deliver, folder_asked, refuse, refusing
    from dokimon.core.jobs import tools as job
    from dokimon.core.jobs.needed_by import with_needs
    from dokimon.core.jobs.workspace import open_workspace
    from dokimon.core.report.outcome import exit_status

    folder_asked(Path.cwd())
    if needed_by and not names:
        refuse("--needed-by asks who needs a tool: name one, as dokimon tools node --needed-by FOLDER")
    below = folder_asked(needed_by) if needed_by else None
    with refusing():
        here = open_workspace(Path.cwd(), os.environ, ask or ())
        wrong = next((name for name in names or () if not _is_a_command(name)), None)
        if wrong is not None:
            refuse(f"{wrong!r} is no name of a tool or command: give one as it is typed, without a folder")
        asked = [here.catalogue.by_command(name) or name for name in names or ()]
        with abandoning():
            with_parts = bool(names) or verbose
            report = job.tools_report(
                here, asked or here.catalogue.names(), os.environ, asked=asked, with_parts=with_parts, fresh=fresh
            )
            if below:
                report = with_needs(report, asked, below, os.environ)

    def draw(console: Console) -> None:
        from dokimon.cli.screen.tools import draw_tools

        draw_tools(console, report, quiet=quiet, verbose=verbose)

    deliver(report, form, output, no_color, draw, pipe_width=UNBOUNDED)
    raise typer.Exit(exit_status(report))


def _is_a_command(name: str) -> bool:
    return bool(name) and not name.startswith("-") and not set(name) & set("/\\\0\n")
