"""The `dokimon` command: its sub-commands, and how a call that cannot be used ends."""

from __future__ import annotations

import contextlib
import errno
import os
import signal
import sys
from importlib import import_module
from types import FrameType
from typing import Annotated, Any, NoReturn

import typer
from typer.core import TyperGroup
from typer.main import get_command

from dokimon.core.version import __version__

COMMANDS = {
    "needs": "What the project declares, and whether that agrees.",
    "tools": "What this machine has, and what a command reaches.",
    "verify": "What is declared against what is here.",
    "smoke": "Verify, prepare, run, check that it works, stop.",
    "path": "A shell line that puts fitting copies first on PATH.",
    "init": "Write a dokimon.toml, ready to edit.",
    "compare": "What is other than when it last passed.",
    "history": "What was seen before: verdicts and times.",
    "show": "Draw a saved report again, in any format.",
    "demo": "All of it, on the sample project.",
}
"""Each is the function of that name in the module of that name, loaded when it is called. A help fits 80 columns."""

_CONTEXT = {"help_option_names": ["-h", "--help"], "max_content_width": 100}


class _Commands(TyperGroup):
    """Makes the one command that is called: making all of them would take a tenth of the time that `verify` takes."""

    def __init__(self, **settings: Any) -> None:
        super().__init__(**settings)
        self.commands = dict.fromkeys(COMMANDS)  # type: ignore[assignment]  # made when asked for, below

    def get_command(self, ctx: Any, cmd_name: str) -> Any:
        if cmd_name in COMMANDS and self.commands[cmd_name] is None:
            self.commands[cmd_name] = _command(cmd_name)
        return self.commands.get(cmd_name)

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        with formatter.section("Commands"):
            formatter.write_dl(list(COMMANDS.items()))


def _command(name: str) -> Any:
    module = import_module(f"dokimon.cli.{name}")
    alone = typer.Typer(
        add_completion=False, rich_markup_mode=None, pretty_exceptions_enable=False, context_settings=_CONTEXT
    )
    alone.command(name, short_help=COMMANDS[name], epilog=module.EXAMPLE)(getattr(module, name))
    return get_command(alone)


app = typer.Typer(
    name="dokimon",
    cls=_Commands,
    no_args_is_help=True,
    # Plain help: drawing it in boxes would double the time that `dokimon --help` takes.
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    context_settings=_CONTEXT,
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


_OUTPUT_FAILS = (errno.ENOSPC, errno.EIO, errno.EBADF, getattr(errno, "EDQUOT", errno.ENOSPC))
"""What writing to standard output meets with: a full disk, a terminal that is gone, a closed descriptor."""


def _give_up(reason: str | None) -> NoReturn:
    with contextlib.suppress(OSError, AttributeError):
        sys.stderr.write(f"dokimon: standard output cannot be written: {reason}\n")
        sys.stderr.flush()
    os._exit(1)


def _end_at_once(number: int, frame: FrameType | None) -> NoReturn:
    os._exit(130)


def main() -> NoReturn:
    """Run the command line; a person's mistake ends in words, never in a traceback."""
    status: object = 1
    if signal.getsignal(signal.SIGINT) is signal.default_int_handler:
        # Until a command has its own way to end: an exception may be lost in what Python calls by the way while it imports.
        signal.signal(signal.SIGINT, _end_at_once)
    if sys.stdout is None:  # Python sets it so where it was closed before the start
        _give_up("it is closed")
    try:
        app()
    except SystemExit as ended:
        status = 0 if ended.code is None else ended.code
    except BrokenPipeError:  # the reader of a pipe went away: nothing is left to say to anyone
        os._exit(1)
    except OSError as wrong:
        if wrong.errno not in _OUTPUT_FAILS or wrong.filename is not None:
            raise
        _give_up(wrong.strerror)
    try:
        sys.stdout.flush()
    except BrokenPipeError:
        os._exit(1)
    except OSError as wrong:
        _give_up(wrong.strerror)
    with contextlib.suppress(OSError, AttributeError):
        sys.stderr.flush()
    # Everything is cleaned up by now. Taking the interpreter apart module by module would last a third of a start.
    os._exit(status if isinstance(status, int) else 1)
