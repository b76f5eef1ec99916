"""`dokimon verify`"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import typer

from dokimon.cli.options import (
    AskOption,
    FolderArgument,
    Format,
    FormatOption,
    FreshOption,
    NoColorOption,
    OutputOption,
    PickOption,
    QuietOption,
    StrictOption,
    VerboseOption,
)

if TYPE_CHECKING:
    from rich.console import Console

EXAMPLE = "Example: dokimon verify --format json --output report.json"


def verify(
    path: FolderArgument = Path(),
    form: FormatOption = Format.table,
    output: OutputOption = None,
    pick: PickOption = False,
    ask: AskOption = None,
    fresh: FreshOption = False,
    strict: StrictOption = False,
    quiet: QuietOption = False,
    verbose: VerboseOption = False,
    no_color: NoColorOption = False,
) -> None:
    """Compare what the project declares with what this machine has: a verdict for each need, and what to do."""
    import os
    import threading
    from importlib import import_module

    from dokimon.cli.interruption import abandoning
    from dokimon.cli.showing import deliver, folder_asked, refusing
    from dokimon.core.jobs import verify as job
    from dokimon.core.report.outcome import exit_status

    folder = folder_asked(path)
    if form == Format.table:
        # While tools are being asked there is time to load what will draw the table.
        threading.Thread(target=import_module, args=("dokimon.cli.screen.verify",), daemon=True).start()
    with refusing(), abandoning():
        verified = job.verify(folder, os.environ, fresh=fresh, pick=pick, may_ask=ask or ())
    report = job.verify_report(verified, strict)

    def draw(console: Console) -> None:
        from dokimon.cli.screen.verify import draw_verify

        draw_verify(console, report, quiet=quiet, verbose=verbose)

    deliver(report, form, output, no_color, draw)
    raise typer.Exit(exit_status(report, strict))
