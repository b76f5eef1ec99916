"""Getting a report to where it was asked for, and ending with the right status."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from importlib import import_module
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
    *,
    as_it_is: bool = False,
) -> None:
    """Write the report in the form and to the place asked for; `draw` puts it on a console as a table.

    A saved report is shown `as_it_is`: where and when it was made stays as it says.
    """

    def drawn(file: TextIO) -> None:
        draw(console(file, no_color or output is not None, pipe_width))

    deliver_lines(None if form == "table" else _encoded(report, form, as_it_is=as_it_is), output, drawn)


def deliver_text(text: str | None, output: Path | None, no_color: bool, draw: Callable[[Console], None]) -> None:
    """Write a text, or what `draw` puts on a console where there is none, to the place asked for."""

    def drawn(file: TextIO) -> None:
        draw(console(file, no_color or output is not None))

    deliver_lines(text, output, drawn)


def deliver_lines(text: str | None, output: Path | None, drawn: Callable[[TextIO], str | None]) -> None:
    """Write a text, or what `drawn` returns or writes itself where there is none, to the place asked for."""
    if output is None:
        sys.stdout.write((drawn(sys.stdout) or "") if text is None else text)
        sys.stdout.flush()
        return
    try:
        with output.open("w", encoding="utf-8") as file:
            file.write((drawn(file) or "") if text is None else text)
    except OSError as wrong:
        refuse(f"{output} cannot be written: {wrong.strerror}")


def deliver_several(
    reports: Sequence[Report], form: str, output: Path | None, no_color: bool, draw: Callable[[Console], None]
) -> None:
    """Write several reports: as a table, as a JSON list, or as Markdown one after the other."""
    if form not in ("table", "json", "markdown"):
        refuse(f"--format {form} takes one project; several are a table, json or markdown")
    texts = [_encoded(report, form, as_it_is=False) for report in reports] if form != "table" else []
    text = f"[\n{','.join(texts)}]\n" if form == "json" else "\n".join(texts)
    deliver_text(text if texts else None, output, no_color, draw)


def _encoded(report: Report, form: str, *, as_it_is: bool) -> str:
    if not as_it_is and report.made is None and form in ("json", "html", "sarif"):
        from dokimon.core.jobs.provenance import with_provenance

        report = with_provenance(report)
    if form == "html":
        from dokimon.core.jobs.paging import page_of
        from dokimon.core.report import as_page

        return as_page.encode(report) if as_it_is else page_of(report, os.environ)
    encoder = import_module(f"dokimon.core.report.as_{form}")
    text: str = encoder.encode(report)
    return text


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


def say(notes: Iterable[str]) -> None:
    """Say what went wrong beside the work itself, a sentence a line, on standard error."""
    for note in notes:
        print(f"dokimon: {note}", file=sys.stderr)


def refuse(says: str) -> NoReturn:
    """End a call that cannot be used: one sentence on standard error, status 2."""
    print(f"dokimon: {says}", file=sys.stderr)
    raise typer.Exit(2)


@contextmanager
def refusing() -> Iterator[None]:
    """End a call whose `dokimon.toml`, own catalogue or suppositions cannot be used: a line for each fault, status 2."""
    from dokimon.core.machine.catalogue import CatalogueFault
    from dokimon.core.proving.supposing import SuppositionFault
    from dokimon.core.settings.tables import SettingsFault

    try:
        yield
    except SettingsFault as fault:
        for problem in fault.problems:
            print(f"{fault.file}:{problem.line}: {problem.says}", file=sys.stderr)
            for line in problem.marked:
                print(f"    {line}", file=sys.stderr)
        raise typer.Exit(2) from None
    except (CatalogueFault, SuppositionFault) as fault:
        refuse(str(fault))
