"""The `dokimon` command: its sub-commands, and how a call that cannot be used ends."""

from __future__ import annotations

import contextlib
import os
import sys
from typing import Annotated, NoReturn

import typer

from dokimon import __version__
from dokimon.cli import demo, init, needs, path, smoke, tools, verify

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
app.command()(tools.tools)
app.command()(verify.verify)
app.command()(smoke.smoke)
app.command()(path.path)
app.command()(init.init)
app.command()(demo.demo)


def main() -> NoReturn:
    """Run the command line; a person's mistake ends in words, never in a traceback."""
    status: object = 1
    try:
        app()
    except SystemExit as ended:
        status = ended.code
    except BrokenPipeError:  # the reader of a pipe went away: nothing is left to say to anyone
        os._exit(1)
    with contextlib.suppress(OSError):
        sys.stdout.flush()
        sys.stderr.flush()
    # Everything is tidied by now. Taking the interpreter apart module by module would last a third of a start.
    os._exit(status if isinstance(status, int) else 0 if status is None else 1)
