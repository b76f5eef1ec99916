"""The `dokimon` command: its sub-commands, and how a call that cannot be used ends."""

from __future__ import annotations

import contextlib
import os
import sys
from typing import Annotated, NoReturn

import typer

from dokimon.cli import demo, init, needs, path, smoke, tools, verify
from dokimon.core.version import __version__

app = typer.Typer(
    name="dokimon",
    no_args_is_help=True,
    # Plain help: drawing it in boxes would double the time that `dokimon --help` takes.
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
)


def _show_version(wanted: bool) -> None:
    if wanted:
        print(f"dokimon {__version__}")
        raise typer.Exit


@app.callback(epilog="Example: dokimon verify && dokimon smoke")
def dokimon(
    version: Annotated[
        bool,
        typer.Option("--version", callback=_show_version, is_eager=True, help="Show the version and exit."),
    ] = False,
) -> None:
    """Is this machine fit for the checkout in front of you, and does the project start here?

    Exit status: 0 all met and passed, 1 something is not, 2 the call or dokimon.toml cannot be used,
    3 something is unknown or unsure, 130 interrupted.
    """


# What the list of commands says must fit a terminal of 80 columns, or click cuts it off.
app.command(short_help="What the project declares, and whether that agrees.", epilog=needs.EXAMPLE)(needs.needs)
app.command(short_help="What this machine has, and what a command reaches.", epilog=tools.EXAMPLE)(tools.tools)
app.command(short_help="What is declared against what is here.", epilog=verify.EXAMPLE)(verify.verify)
app.command(short_help="Verify, prepare, run, check that it works, stop.", epilog=smoke.EXAMPLE)(smoke.smoke)
app.command(short_help="A shell line that puts fitting copies first on PATH.", epilog=path.EXAMPLE)(path.path)
app.command(short_help="Write a dokimon.toml, ready to edit.", epilog=init.EXAMPLE)(init.init)
app.command(short_help="All of it, on the sample project.", epilog=demo.EXAMPLE)(demo.demo)


def main() -> NoReturn:
    """Run the command line; a person's mistake ends in words, never in a traceback."""
    status: object = 1
    try:
        app()
    except SystemExit as ended:
        status = 0 if ended.code is None else ended.code
    except BrokenPipeError:  # the reader of a pipe went away: nothing is left to say to anyone
        os._exit(1)
    with contextlib.suppress(OSError):
        sys.stdout.flush()
        sys.stderr.flush()
    # Everything is cleaned up by now. Taking the interpreter apart module by module would last a third of a start.
    os._exit(status if isinstance(status, int) else 1)
