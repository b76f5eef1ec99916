"""Several checkouts in one call: progress, a row for each, one exit status."""

from __future__ import annotations

import sys
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Literal, NoReturn

import typer

if TYPE_CHECKING:
    from rich.console import Console

    from dokimon.core.report.model import Report


def show_several(
    folders: Sequence[Path],
    report_of: Callable[[Path], Report],
    draw: Callable[[Console, Report], None],
    *,
    command: Literal["needs", "verify"],
    form: str,
    output: Path | None,
    no_color: bool,
    quiet: bool,
    verbose: bool,
) -> NoReturn:
    """Make a report of each folder, draw a row for each (all of each with `verbose`, by `draw`), and end the call."""
    from dokimon.cli.interruption import abandoning
    from dokimon.cli.showing import refusing
    from dokimon.core.jobs.several import reports_of

    total, done = len(folders), 0

    def counted(folder: Path) -> Report:
        nonlocal done
        done += 1
        if sys.stderr.isatty() and not quiet:
            print(f"\r{done} of {total}: {folder.name}\x1b[K", end="", file=sys.stderr, flush=True)
        return report_of(folder)

    with refusing(), abandoning():
        reports = reports_of(folders, counted, command)
    if sys.stderr.isatty() and not quiet:
        print("\r\x1b[K", end="", file=sys.stderr, flush=True)
    deliver_reports(reports, draw, form=form, output=output, no_color=no_color, quiet=quiet, verbose=verbose)


def deliver_reports(
    reports: Sequence[Report],
    draw: Callable[[Console, Report], None],
    *,
    form: str,
    output: Path | None,
    no_color: bool,
    quiet: bool,
    verbose: bool,
) -> NoReturn:
    """Deliver what was made of several checkouts, and end the call with the status that all come to."""
    from dokimon.cli.showing import deliver_several
    from dokimon.core.jobs.several import status_of

    def drawn(console: Console) -> None:
        from dokimon.cli.screen.several import draw_several

        draw_several(console, reports, quiet=quiet, verbose=verbose, draw=lambda report: draw(console, report))

    deliver_several(reports, form, output, no_color, drawn)
    raise typer.Exit(status_of(reports))
