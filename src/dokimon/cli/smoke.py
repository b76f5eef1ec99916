"""`dokimon smoke`"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, NoReturn

import typer

from dokimon.cli.options import (
    AskOption,
    FoldersArgument,
    Format,
    FormatOption,
    NoColorOption,
    NoRecordOption,
    OutputOption,
    PickOption,
    QuietOption,
    ShareOption,
    StrictOption,
    VerboseOption,
)
from dokimon.cli.smoke_options import (
    AcrossOption,
    AllPairsOption,
    AllRunsOption,
    AnywayOption,
    CloneOption,
    EmptyOption,
    FollowOption,
    JobsOption,
    KeepOption,
    ListedOption,
    NoBrowserOption,
    NoPrepareOption,
    OnlyOption,
    QrOption,
    RunOption,
    ShowPlanOption,
    StagedOption,
    WaitOption,
)

if TYPE_CHECKING:
    from rich.console import Console

    from dokimon.core.jobs.options import AcrossOptions
    from dokimon.core.report.model import Report


EXAMPLE = "Example: dokimon smoke --run board --keep"


def smoke(
    paths: FoldersArgument = None,
    run: RunOption = None,
    keep: KeepOption = False,
    show_plan: ShowPlanOption = False,
    all_runs: AllRunsOption = False,
    follow: FollowOption = False,
    clone: CloneOption = False,
    staged: StagedOption = False,
    empty: EmptyOption = False,
    across: AcrossOption = None,
    only: OnlyOption = None,
    all_pairs: AllPairsOption = False,
    jobs: JobsOption = 1,
    listed: ListedOption = False,
    pick: PickOption = False,
    ask: AskOption = None,
    anyway: AnywayOption = False,
    no_prepare: NoPrepareOption = False,
    no_browser: NoBrowserOption = False,
    wait: WaitOption = None,
    qr: QrOption = False,
    form: FormatOption = Format.table,
    output: OutputOption = None,
    strict: StrictOption = False,
    share: ShareOption = False,
    no_record: NoRecordOption = False,
    quiet: QuietOption = False,
    verbose: VerboseOption = False,
    no_color: NoColorOption = False,
) -> None:
    """Verify, then prepare the project, run it, check that it works, and stop it.

    This runs the project's own code: calling it is the consent.
    """
    from dokimon.cli.showing import deliver, folder_asked, refuse, refusing
    from dokimon.cli.smoking import Showing, planned, refuse_where_it_cannot_run, smoke_in, smoke_or_plan_several
    from dokimon.core.faults import Fault
    from dokimon.core.jobs.options import AcrossOptions, CloneOptions, SmokeOptions, refuse_of_several
    from dokimon.core.jobs.several import checkouts_in
    from dokimon.core.report.outcome import exit_status

    refuse_where_it_cannot_run()
    options = SmokeOptions(
        runs=tuple(run or ()), every=all_runs, prepare=not no_prepare, keep=keep, pick=pick, anyway=anyway,
        strict=strict, may_ask=tuple(ask or ()), record=not no_record, share=share, wait_seconds=_seconds(wait),
        render=not no_browser,
    )  # fmt: skip
    showing = Showing(qr=qr, quiet=quiet, follow=follow, no_color=no_color)

    def draw(console: Console, report: Report) -> None:
        _draw(console, report, quiet=quiet, verbose=verbose, planned=show_plan)

    try:
        if qr and not keep:
            refuse("--qr draws the address of a run that is kept up: call it with --keep")
        of_clone = CloneOptions.wished(clone=clone, across=bool(across), staged=staged, empty=empty, planned=show_plan)
        wish = AcrossOptions.wished(
            options, tools=tuple(across or ()), only=tuple(only or ()), all_pairs=all_pairs, at_once=jobs,
            listed=listed, planned=show_plan,
        )  # fmt: skip
        folders = [folder_asked(path) for path in paths or [Path()]]
        every = checkouts_in(folders)
        several = len(every) > 1 or every != folders
        refuse_of_several(several, options, wish, jobs)
        with refusing():
            if several:
                reports = smoke_or_plan_several(every, options, showing, of_clone, jobs, only_plan=show_plan)
            elif wish and listed:
                _list(folders[0], wish)
            else:
                (folder,) = folders
                report = planned(folder, options) if show_plan else smoke_in(folder, options, showing, of_clone, wish)
    except Fault as fault:
        refuse(str(fault))
    if several:
        from dokimon.cli.several import deliver_reports

        deliver_reports(reports, draw, form=form, output=output, no_color=no_color, quiet=quiet, verbose=verbose)
    deliver(report, form, output, no_color, lambda console: draw(console, report))
    raise typer.Exit(exit_status(report))


def _draw(console: Console, report: Report, *, quiet: bool, verbose: bool, planned: bool) -> None:
    from dokimon.cli.screen.across import draw_across
    from dokimon.cli.screen.plan import draw_plan
    from dokimon.cli.screen.smoke import draw_smoke

    if report.across:
        draw_across(console, report, report.across)
    elif planned:
        draw_plan(console, report)
    else:
        draw_smoke(console, report, quiet=quiet, verbose=verbose)


def _list(folder: Path, wish: AcrossOptions) -> NoReturn:
    """Print the combinations as JSON, in the form that the job matrix of a CI system takes, and end the call."""
    import json
    import os

    from dokimon.cli.interruption import abandoning
    from dokimon.core.jobs.across import combinations

    with abandoning():
        found = combinations(folder, os.environ, wish)
    print(json.dumps({"include": found}))
    raise typer.Exit(0)


def _seconds(written: str | None) -> float:
    """Return the seconds of `--wait`, none where it is not given."""
    from dokimon.cli.showing import refuse
    from dokimon.core.measures import seconds

    try:
        return seconds(written) if written else 0.0
    except ValueError as wrong:
        refuse(f"--wait: {wrong}")
