"""Getting a report to where it was asked for, and ending with the right status."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, NoReturn, TextIO

import typer

if TYPE_CHECKING:
    from rich.console import Console

    from dokimon.core.report.model import Report

PIPE_WIDTH = 100
"""The columns that a table takes where there is no terminal to ask."""

UNBOUNDED = 10_000
"""The same for what is read by programs, line by line."""


def console(file: TextIO, no_color: bool, pipe_width: int = PIPE_WIDTH) -> Console:
    """Return a Rich console for `file`: colours only on a terminal, and only if not turned off."""
    from rich.console import Console

    plain = no_color or bool(os.environ.get("NO_COLOR")) or os.environ.get("TERM") == "dumb"
    terminal = file.isatty()
    width = None if terminal or os.environ.get("COLUMNS", "").isdecimal() else pipe_width
    return Console(
        file=file, no_color=plain, color_system="auto" if terminal and not plain else None,
        force_terminal=False if plain else terminal, width=width, highlight=False, markup=False, emoji=False,
    )  # fmt: skip


def deliver(
    report: Report,
    form: str,
    output: Path | None,
    no_color: bool,
    draw: Callable[[Console], None],
    pipe_width: int = PIPE_WIDTH,
) -> None:
    """Write the report in the form and to the place asked for; `draw` puts it on a console as a table."""
    if output is None:
        _write(report, form, sys.stdout, no_color, draw, pipe_width)
        return
    try:
        with output.open("w", encoding="utf-8") as file:
            _write(report, form, file, True, draw, pipe_width)
    except OSError as wrong:
        refuse(f"{output} cannot be written: {wrong.strerror}")


def _write(
    report: Report, form: str, file: TextIO, no_color: bool, draw: Callable[[Console], None], pipe_width: int
) -> None:
    if form == "json":
        from dokimon.core.jobs.provenance import with_provenance
        from dokimon.core.report.as_json import encode

        file.write(encode(with_provenance(report)))
    elif form == "markdown":
        from dokimon.core.report import as_markdown

        file.write(as_markdown.encode(report))
    elif form == "junit":
        from dokimon.core.report import as_junit

        file.write(as_junit.encode(report))
    else:
        draw(console(file, no_color, pipe_width))
    file.flush()


def folder_asked(path: Path) -> Path:
    """Return the folder to look in, absolute; a call that names none ends with status 2."""
    if not path.exists():
        refuse(f"there is no folder {path}")
    if not path.is_dir():
        refuse(f"{path} is a file; name the project's folder")
    _put_back_what_was_left(path.resolve())
    return path.resolve()


def _put_back_what_was_left(folder: Path) -> None:
    """Put back files that a check was changing when an earlier Dokimon was killed, and say so."""
    from dokimon.core.checks.journal import put_back

    for sentence in put_back(folder, os.environ):
        print(f"dokimon: {sentence}", file=sys.stderr)


def refuse(says: str) -> NoReturn:
    """End a call that cannot be used: one sentence on standard error, status 2."""
    print(f"dokimon: {says}", file=sys.stderr)
    raise typer.Exit(2)


@contextmanager
def refusing() -> Iterator[None]:
    """End a call whose `dokimon.toml` or own catalogue cannot be used: a line for each fault, status 2."""
    from dokimon.core.machine.catalogue import CatalogueFault
    from dokimon.core.settings.tables import SettingsFault

    try:
        yield
    except SettingsFault as fault:
        for problem in fault.problems:
            print(f"{fault.file}:{problem.line}: {problem.says}", file=sys.stderr)
            for line in problem.marked:
                print(f"    {line}", file=sys.stderr)
        raise typer.Exit(2) from None
    except CatalogueFault as fault:
        refuse(str(fault))
