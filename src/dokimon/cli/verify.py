"""`dokimon verify`"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import typer

from dokimon.cli.options import (
    AllowNoneOption,
    AskOption,
    FoldersArgument,
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

    from dokimon.core.report.model import Report

EXAMPLE = "Example: dokimon verify --format json --output report.json"


def verify(
    paths: FoldersArgument = None,
    form: FormatOption = Format.table,
    output: OutputOption = None,
    pick: PickOption = False,
    ask: AskOption = None,
    fresh: FreshOption = False,
    suppose: SupposeOption = None,
    strict: StrictOption = False,
    allow_none: AllowNoneOption = False,
    share: ShareOption = False,
    no_record: NoRecordOption = False,
    quiet: QuietOption = False,
    verbose: VerboseOption = False,
    no_color: NoColorOption = False,
) -> None:
    """Compare what the project declares with what this machine has: a verdict for each need, and what to do."""
    import os
    import time

    import msgspec

    from dokimon.cli.interruption import abandoning
    from dokimon.cli.several import show_several
    from dokimon.cli.showing import deliver, folder_asked, refuse, refusing, say
    from dokimon.core.jobs import verify as job
    from dokimon.core.jobs.several import checkouts_in
    from dokimon.core.machine.once import Once
    from dokimon.core.report.outcome import exit_status

    if suppose and pick:
        refuse("--suppose judges versions that are not there, --pick copies that are: give one of them")
    folders = [folder_asked(path) for path in paths or [Path()]]
    every = checkouts_in(folders)
    if len(every) > 1 or every != folders:
        once, environment = Once(), dict(os.environ)

        def report_of(each: Path) -> Report:
            found = job.verify(
                each, environment, fresh=fresh, pick=pick, may_ask=ask or (), suppose=suppose or (), once=once
            )
            return job.verify_report(found, strict, allow_none=allow_none)

        show_several(
            every, report_of, lambda console, report: _draw(console, report, quiet=quiet, verbose=False), command="verify",
            form=form, output=output, no_color=no_color, quiet=quiet, verbose=verbose,
        )  # fmt: skip
    (folder,) = folders
    with refusing(), abandoning():
        begun = time.monotonic()
        verified = job.verify(folder, os.environ, fresh=fresh, pick=pick, may_ask=ask or (), suppose=suppose or ())
        spent = round(time.monotonic() - begun, 3)
    report = msgspec.structs.replace(
        job.verify_report(verified, strict, allow_none=allow_none), seconds=spent, verify_seconds=spent
    )
    recorder = None
    if not report.supposed and (not no_record or share or report.verdict != "met"):
        from dokimon.core.jobs.recording import Recorder

        recorder = Recorder(verified, keeping=not no_record)
        report = recorder.told(report)

    if recorder and share:
        report = recorder.shared(report)
    deliver(report, form, output, no_color, lambda console: _draw(console, report, quiet=quiet, verbose=verbose))
    if recorder:
        recorder.keep()
        say(recorder.notes)
    raise typer.Exit(exit_status(report))


def _draw(console: Console, report: Report, *, quiet: bool, verbose: bool) -> None:
    from dokimon.cli.screen.verify import draw_verify

    draw_verify(console, report, quiet=quiet, verbose=verbose)
