"""`dokimon history`"""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, TextIO

import typer

from dokimon.cli.options import FolderArgument, NoColorOption, OutputOption, VerboseOption

if TYPE_CHECKING:
    from dokimon.core.records.history import History

EXAMPLE = "Example: dokimon history --plot times.svg"


class HistoryFormat(StrEnum):
    """The forms in which a history can be had."""

    table = "table"
    json = "json"
    csv = "csv"


def history(
    path: FolderArgument = Path(),
    plot: Annotated[
        Path | None,
        typer.Option("--plot", metavar="FILE", help="Draw the times over time: .svg, .png or .pdf (needs Matplotlib)."),
    ] = None,
    dark: Annotated[bool, typer.Option("--dark", help="With --plot, draw on a dark ground.")] = False,
    form: Annotated[HistoryFormat, typer.Option("--format", "-f", help="The form.")] = HistoryFormat.table,
    output: OutputOption = None,
    verbose: VerboseOption = False,
    no_color: NoColorOption = False,
) -> None:
    """Show what was recorded of the checkout, a line for each verify and smoke, the newest last."""
    import os

    from dokimon.cli.showing import deliver_lines, folder_asked, refuse, say
    from dokimon.core.jobs.history import history_of
    from dokimon.core.records.history import as_csv, encode
    from dokimon.core.records.store import RecordsFault

    try:
        found, notes = history_of(folder_asked(path), os.environ)
    except RecordsFault as wrong:
        refuse(str(wrong))
    say(notes)
    if plot:
        _plot(found, plot, dark=dark)
        return

    texts = {HistoryFormat.json: encode, HistoryFormat.csv: as_csv}
    deliver_lines(
        texts[form](found) if form in texts else None, output, lambda file: _drawn(found, file, no_color, verbose)
    )


def _drawn(found: History, file: TextIO, no_color: bool, verbose: bool) -> str:
    from dokimon.cli.screen.history import history_lines
    from dokimon.cli.screen.plain import Plain

    return "\n".join(history_lines(found, Plain(file, no_color), verbose=verbose)) + "\n"


def _plot(found: History, plot: Path, *, dark: bool) -> None:
    from dokimon.cli.showing import refuse
    from dokimon.core.records.plotting import FORMS, PlotFault, draw_plot

    if plot.suffix.lower() not in FORMS:
        refuse(f"--plot {plot}: its ending says the form, which is one of {', '.join(FORMS)}")
    try:
        draw_plot(found, plot, dark=dark)
    except PlotFault as wrong:
        refuse(f"no plot: {wrong}")
    except ModuleNotFoundError:
        refuse("no plot: it needs the package Matplotlib, which pip install 'dokimon[plot]' brings")
    except OSError as wrong:
        refuse(f"{plot} cannot be written: {wrong.strerror or wrong}")
    print(f"wrote {plot}")
