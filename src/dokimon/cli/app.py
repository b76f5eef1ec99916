"""The `dokimon` command: its sub-commands, and how a call that cannot be used ends."""

from __future__ import annotations

import sys
from typing import Annotated

import typer

from dokimon import __version__
from dokimon.cli import demo, needs, smoke, verify

app = typer.Typer(
    name="dokimon",
    no_args_is_help=True,
    add_completion=False,
    # Plain help: drawing it in boxes would double the time that `dokimon --help` takes.
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
)


def _show_version(wanted: bool) -> None:
    if wanted:
        print(f"dokimon {__version__}")
        raise typer.Exit


@app.callback()
def dokimon(
    version: Annotated[
        bool,
        typer.Option("--version", callback=_show_version, is_eager=True, help="Show the version and end."),
    ] = False,
) -> None:
    """Is this machine fit for the checkout in front of you, and does the project start here?

    Exit status: 0 all met and passed, 1 something is not, 2 the call or dokimon.toml cannot be used,
    3 something stays unknown or unsure, 130 interrupted.
    """


app.command()(needs.needs)
app.command()(verify.verify)
app.command()(smoke.smoke)
app.command()(demo.demo)


def main() -> None:
    """Run the command line; a person's mistake ends in words, never in a traceback."""
    try:
        app()
    except BrokenPipeError:  # the reader of a pipe went away: nothing is left to say to anyone
        sys.stderr.close()
        sys.exit(1)
