"""`dokimon smoke`"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, NamedTuple, NoReturn

import typer

from dokimon.cli.completing import complete_runs
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

if TYPE_CHECKING:
    import threading

    from rich.console import Console

    from dokimon.cli.progress import Progress
    from dokimon.core.jobs.smoke import AcrossOptions, CloneOptions, SmokeOptions
    from dokimon.core.machine.once import Once
    from dokimon.core.processes.tree import Tree
    from dokimon.core.report.model import Report, Run


EXAMPLE = "Example: dokimon smoke --run board --keep"


def smoke(
    paths: FoldersArgument = None,
    run: Annotated[
        list[str] | None,
        typer.Option(
            "--run", metavar="NAME", help="Carry out this run only; may be repeated.", autocompletion=complete_runs
        ),
    ] = None,
    keep: Annotated[
        bool,
        typer.Option("--keep", help="Keep it up after the checks, say where to look, stop on Ctrl+C."),
    ] = False,
    show_plan: Annotated[
        bool, typer.Option("--show-plan", help="Only show what would be prepared and run, and why.")
    ] = False,
    all_runs: Annotated[
        bool, typer.Option("--all-runs", help="Try every way to start it, one after the other.")
    ] = False,
    follow: Annotated[
        bool, typer.Option("--follow", help="Show each line that a step or run prints, as it comes.")
    ] = False,
    clone: Annotated[
        bool, typer.Option("--clone", help="Try what is committed, in a fresh folder, prepared from nothing.")
    ] = False,
    staged: Annotated[bool, typer.Option("--staged", help="With --clone, with what is staged.")] = False,
    empty: Annotated[
        bool, typer.Option("--empty", help="With --clone, share no cache of a package manager either.")
    ] = False,
    across: Annotated[
        list[str] | None,
        typer.Option(
            "--across",
            metavar="TOOL",
            help="Try clones under every version of this tool that is here; may be repeated.",
        ),
    ] = None,
    only: Annotated[
        list[str] | None,
        typer.Option(
            "--only",
            metavar="VERSION",
            help='With --across, this alone ("node 20.18.0, python 3.12.1"); may be repeated.',
        ),
    ] = None,
    all_pairs: Annotated[
        bool, typer.Option("--all-pairs", help="With several --across, each version with each of the others.")
    ] = False,
    jobs: Annotated[
        int,
        typer.Option("--jobs", "-j", metavar="N", min=1, help="With --across or several projects: so many at once."),
    ] = 1,
    listed: Annotated[
        bool, typer.Option("--list", help="With --across, only print what would be tried, for the jobs of a CI system.")
    ] = False,
    pick: PickOption = False,
    ask: AskOption = None,
    anyway: Annotated[bool, typer.Option("--anyway", help="Go on although a need is not met.")] = False,
    no_prepare: Annotated[
        bool, typer.Option("--no-prepare", help="Do no prepare step; only list those that are needed.")
    ] = False,
    wait: Annotated[
        str | None,
        typer.Option(
            "--wait", metavar="TIME", help="Where another smoke check is at work here, wait so long for its end (5m)."
        ),
    ] = None,
    qr: Annotated[
        bool, typer.Option("--qr", help="With --keep, draw the address for other devices as a QR code.")
    ] = False,
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
    from dokimon.core.faults import Fault
    from dokimon.core.jobs.several import checkouts_in
    from dokimon.core.jobs.smoke import AcrossOptions, CloneOptions, SmokeOptions
    from dokimon.core.machine.platform import WINDOWS
    from dokimon.core.report.outcome import exit_status

    if WINDOWS:
        refuse("smoke does not run on Windows yet; verify does")
    of_clones = clone or bool(across)
    _refuse_contradictions(
        keep=keep, qr=qr, staged=staged, empty=empty, clone=clone, across=across or [], only=only, listed=listed,
        all_pairs=all_pairs, pick=pick, show_plan=show_plan,
    )  # fmt: skip
    folders = [folder_asked(path) for path in paths or [Path()]]
    every = checkouts_in(folders)
    several = len(every) > 1 or every != folders
    _refuse_of_several(several, keep=keep, across=bool(across), jobs=jobs)
    (folder, *_) = folders
    options = SmokeOptions(
        runs=tuple(run or ()),
        every=all_runs,
        prepare=not no_prepare,
        pick=pick,
        anyway=anyway,
        strict=strict,
        may_ask=tuple(ask or ()),
        record=not no_record,
        share=share,
        wait_seconds=_seconds(wait) if wait else 0.0,
    )
    showing = Showing(keep=keep, qr=qr, quiet=quiet, follow=follow, no_color=no_color)
    of_clone = CloneOptions(staged=staged, empty=empty) if of_clones else None
    wish = (
        AcrossOptions(tools=tuple(across), only=tuple(only or ()), all_pairs=all_pairs, at_once=jobs)
        if across
        else None
    )

    def draw(console: Console, report: Report) -> None:
        _draw(console, report, quiet=quiet, verbose=verbose, planned=show_plan)

    if several:
        from dokimon.cli.several import deliver_reports

        with refusing():
            reports = _several(every, options, showing, of_clone, jobs, planned=show_plan)
        deliver_reports(
            reports, draw, form=form, output=output, no_color=no_color, quiet=quiet, verbose=verbose, strict=strict,
            status=0 if show_plan else None,
        )  # fmt: skip
    try:
        if wish and listed:
            _list(folder, wish)
        with refusing():
            report = _planned(folder, options) if show_plan else smoke_in(folder, options, showing, of_clone, wish)
    except Fault as fault:
        refuse(str(fault))

    deliver(report, form, output, no_color, lambda console: draw(console, report))
    raise typer.Exit(0 if show_plan else exit_status(report, strict))


def _refuse_contradictions(
    *, keep: bool, qr: bool, staged: bool, empty: bool, clone: bool, across: list[str], only: list[str] | None,
    listed: bool, all_pairs: bool, pick: bool, show_plan: bool,
) -> None:  # fmt: skip
    """Refuse options that say nothing without another, or that contradict each other."""
    from dokimon.cli.showing import refuse

    of_clones = clone or bool(across)
    for wrong, says in (
        (qr and not keep, "--qr draws the address of a run that is kept up: call it with --keep"),
        (staged and not of_clones, "--staged says how a clone is made: call it with --clone"),
        (empty and not of_clones, "--empty says how a clone is made: call it with --clone"),
        (only and not across, "--only is about the versions of a tool: call it with --across"),
        (listed and not across, "--list is about the versions of a tool: call it with --across"),
        (all_pairs and len(across) < 2, "--all-pairs is about several tools: give --across for each of them"),
        (
            across and (keep or pick or show_plan),
            "--across tries several versions: without --keep, --pick and --show-plan",
        ),
        (clone and show_plan, "--show-plan runs nothing, --clone a clone: give one of them"),
    ):
        if wrong:
            refuse(says)


def _refuse_of_several(several: bool, *, keep: bool, across: bool, jobs: int) -> None:
    """Refuse what is about one project where there are several, and the other way round."""
    from dokimon.cli.showing import refuse

    if several and (keep or across):
        refuse("--keep and --across are about one project: name one folder")
    if jobs > 1 and not several and not across:
        refuse("--jobs is about several projects or versions: here is one of each")


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
    from dokimon.cli.showing import refusing
    from dokimon.core.jobs.across import combinations

    with refusing(), abandoning():
        found = combinations(folder, os.environ, wish)
    print(json.dumps({"include": found}))
    raise typer.Exit(0)


def _seconds(written: str) -> float:
    from dokimon.cli.showing import refuse
    from dokimon.core.measures import seconds

    try:
        return seconds(written)
    except ValueError as wrong:
        refuse(f"--wait: {wrong}")


class Showing(NamedTuple):
    """How the work is shown meanwhile, and whether the last run is kept up for somebody to look at."""

    keep: bool = False
    qr: bool = False
    quiet: bool = False
    follow: bool = False
    no_color: bool = False


def smoke_in(
    folder: Path,
    options: SmokeOptions,
    showing: Showing,
    of_clone: CloneOptions | None = None,
    wish: AcrossOptions | None = None,
) -> Report:
    """Smoke-check the project in `folder`, or clones of it, with progress on standard error, and return the report.

    Raises `SettingsFault`, `CatalogueFault`, `PlanFault`, `TurnFault`, `CloneFault` and `AcrossFault`.
    """
    import os

    import msgspec

    from dokimon.cli.interruption import interruptible
    from dokimon.cli.progress import watch
    from dokimon.core.jobs.smoke import smoke

    with (
        interruptible() as halt,
        watch(quiet=showing.quiet, follow=showing.follow, no_color=showing.no_color) as progress,
    ):
        keeping = _Keeping(halt, progress, showing.qr) if showing.keep else None
        if of_clone and wish:
            from dokimon.core.jobs.across import smoke_across

            report = smoke_across(folder, os.environ, options, of_clone, wish, halt, progress)
        elif of_clone:
            from dokimon.core.jobs.clone import smoke_clone

            report = smoke_clone(folder, os.environ, options, of_clone, halt, progress, keeping)
        else:
            report = smoke(folder, os.environ, options, halt, progress, keeping)
    if keeping and keeping.asked_to_stop:
        return msgspec.structs.replace(report, interrupted=False)
    return report


def _several(
    folders: list[Path],
    options: SmokeOptions,
    showing: Showing,
    of_clone: CloneOptions | None,
    at_once: int,
    *,
    planned: bool,
) -> list[Report]:
    """Smoke-check several projects, so many at once, or only plan that; one that cannot be hides no other."""
    import os

    from dokimon.cli.interruption import interruptible
    from dokimon.cli.progress import watch
    from dokimon.core.jobs.several import reports_of
    from dokimon.core.jobs.smoke_several import smoke_several

    if planned:
        from dokimon.core.machine.once import Once

        once = Once()
        return reports_of(folders, lambda each: _planned(each, options, once), "smoke")
    with (
        interruptible() as halt,
        watch(quiet=showing.quiet, follow=showing.follow, no_color=showing.no_color) as progress,
    ):
        return smoke_several(folders, os.environ, options, of_clone, at_once, halt, progress)


def _planned(folder: Path, options: SmokeOptions, once: Once | None = None) -> Report:
    """Return the plan for the project in `folder` as a report; raises as `smoke_in` does."""
    import os

    from dokimon.cli.interruption import abandoning
    from dokimon.core.jobs.smoke import plan_report, plan_smoke
    from dokimon.core.jobs.verify import verify

    with abandoning():
        verified = verify(folder, os.environ, pick=options.pick, may_ask=options.may_ask, once=once)
    return plan_report(verified, plan_smoke(verified, verified.environment, options.runs, every=options.every))


class _Keeping:
    """Keeps a run up until somebody has seen enough. Ctrl+C is then how it is meant to end, no interruption."""

    def __init__(self, halt: threading.Event, progress: Progress, qr: bool) -> None:
        self._halt = halt
        self._progress = progress
        self._qr = qr
        self.asked_to_stop = False

    def __call__(self, run: Run, tree: Tree) -> None:
        for check in run.checks:
            self._progress.say(f"{check.verdict:<8} {check.name}: {check.seen}")
        self._progress.say(f"{run.name} is up at {run.url or 'no address of its own'}; Ctrl+C stops it")
        self._tell_other_devices(run)
        self._progress.stage(run.name, f"kept up{f' at {run.url}' if run.url else ''}; Ctrl+C stops it")
        while not tree.wait(0.1) or tree.processes():
            if self._halt.is_set():
                self.asked_to_stop = True
                return
        self._progress.say(f"{run.name} has ended by itself")

    def _tell_other_devices(self, run: Run) -> None:
        """Say where other devices find a run that is meant to be reached by them (`expose = true`)."""
        from dokimon.cli.qr_code import drawn
        from dokimon.core.processes.sockets import addresses_for_others

        addresses = addresses_for_others(run) if run.exposure_meant else ()
        for address in addresses:
            self._progress.say(f"other devices reach it at {address}")
        if not self._qr:
            return
        if not addresses:
            why = "this machine is in no network" if run.exposure_meant else "its [[run]] does not say expose = true"
            self._progress.say(f"no QR code: there is no address for other devices, as {why}")
            return
        try:
            lines = drawn(addresses[0])
        except ModuleNotFoundError:
            self._progress.say("no QR code: it needs the package segno, which pip install 'dokimon[qr]' brings")
            return
        for line in lines:
            self._progress.say(line)
