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
    NoRecordOption,
    OutputOption,
    PickOption,
    QuietOption,
    ShareOption,
    StrictOption,
    SupposeOption,
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
    suppose: SupposeOption = None,
    strict: StrictOption = False,
    share: ShareOption = False,
    no_record: NoRecordOption = False,
    quiet: QuietOption = False,
    verbose: VerboseOption = False,
    no_color: NoColorOption = False,
) -> None:
    """Compare what the project declares with what this machine has: a verdict for each need, and what to do."""
    import os
    import threading
    import time
    from importlib import import_module

    import msgspec

    from dokimon.cli.interruption import abandoning
    from dokimon.cli.showing import deliver, folder_asked, refuse, refusing, say
    from dokimon.core.jobs import verify as job
    from dokimon.core.report.outcome import exit_status

    if suppose and pick:
        refuse("--suppose judges versions that are not there, --pick copies that are: give one of them")
    folder = folder_asked(path)
    if form == Format.table:
        # While tools are being asked there is time to load what will draw the table.
        threading.Thread(target=import_module, args=("dokimon.cli.screen.verify",), daemon=True).start()
    with refusing(), abandoning():
        begun = time.monotonic()
        verified = job.verify(folder, os.environ, fresh=fresh, pick=pick, may_ask=ask or (), suppose=suppose or ())
        spent = round(time.monotonic() - begun, 3)
    report = msgspec.structs.replace(job.verify_report(verified, strict), seconds=spent, verify_seconds=spent)
    recorder = None
    if not report.supposed and (not no_record or share or report.verdict != "met"):
        from dokimon.core.jobs.recording import Recorder

        recorder = Recorder(verified, keeping=not no_record)
        report = recorder.told(report)

    def draw(console: Console) -> None:
        from dokimon.cli.screen.verify import draw_verify

        draw_verify(console, report, quiet=quiet, verbose=verbose)

    deliver(recorder.shared(report) if recorder and share else report, form, output, no_color, draw)
    if recorder:
        recorder.keep()
        say(recorder.notes)
    raise typer.Exit(exit_status(report, strict))
