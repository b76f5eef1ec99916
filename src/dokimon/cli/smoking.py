"""Smoke-checking with somebody who watches: progress on standard error, interruption, a run that is kept up."""

from __future__ import annotations

import os
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    import threading

    from dokimon.cli.progress import Progress
    from dokimon.core.jobs.options import AcrossOptions, CloneOptions, SmokeOptions
    from dokimon.core.jobs.smoke import KeptUp
    from dokimon.core.machine.once import Once
    from dokimon.core.report.model import Report, Run


class Showing(NamedTuple):
    """How the work is shown meanwhile."""

    qr: bool = False
    quiet: bool = False
    follow: bool = False
    no_color: bool = False


def refuse_where_it_cannot_run() -> None:
    """End the call on a system whose processes nothing here can hold together."""
    from dokimon.cli.showing import refuse
    from dokimon.core.machine.platform import WINDOWS

    if WINDOWS:
        refuse("smoke does not run on Windows yet; verify does")


def smoke_in(
    folder: Path,
    options: SmokeOptions,
    showing: Showing,
    of_clone: CloneOptions | None = None,
    wish: AcrossOptions | None = None,
) -> Report:
    """Smoke-check the project in `folder`, or clones of it, and return the report.

    Raises `SettingsFault`, `CatalogueFault`, `PlanFault`, `TurnFault`, `CloneFault` and `AcrossFault`.
    """
    import msgspec

    from dokimon.cli.interruption import interruptible
    from dokimon.cli.progress import watch

    asked_to_stop = False
    with (
        interruptible() as halt,
        watch(quiet=showing.quiet, follow=showing.follow, no_color=showing.no_color) as progress,
    ):
        if of_clone and wish:
            from dokimon.core.jobs.across import smoke_across

            return smoke_across(folder, os.environ, options, of_clone, wish, halt, progress)
        if of_clone:
            from dokimon.core.jobs.clone import smoking_clone

            begun = smoking_clone(folder, os.environ, options, of_clone, halt, progress)
        else:
            from dokimon.core.jobs.smoke import smoking

            begun = smoking(folder, os.environ, options, halt, progress)
        with begun as work:
            if work.up:
                asked_to_stop = _keep_up(work.up, halt, progress, qr=showing.qr)
    return msgspec.structs.replace(work.report, interrupted=False) if asked_to_stop else work.report


def smoke_or_plan_several(
    folders: list[Path],
    options: SmokeOptions,
    showing: Showing,
    of_clone: CloneOptions | None,
    at_once: int,
    *,
    only_plan: bool,
) -> list[Report]:
    """Smoke-check several projects, `at_once` of them side by side, or only plan that; one that cannot be hides no other."""
    from dokimon.cli.interruption import interruptible
    from dokimon.cli.progress import watch
    from dokimon.core.jobs.several import reports_of
    from dokimon.core.jobs.smoke_several import smoke_several

    if only_plan:
        from dokimon.core.machine.once import Once

        once = Once()
        return reports_of(folders, lambda each: planned(each, options, once), "smoke")
    with (
        interruptible() as halt,
        watch(quiet=showing.quiet, follow=showing.follow, no_color=showing.no_color) as progress,
    ):
        return smoke_several(folders, os.environ, options, of_clone, at_once, halt, progress)


def planned(folder: Path, options: SmokeOptions, once: Once | None = None) -> Report:
    """Return the plan for the project in `folder` as a report; raises as `smoke_in` does."""
    from dokimon.cli.interruption import abandoning
    from dokimon.core.jobs.smoke import plan_report, plan_smoke
    from dokimon.core.jobs.verify import verify

    with abandoning():
        verified = verify(folder, os.environ, pick=options.pick, may_ask=options.may_ask, once=once)
    return plan_report(verified, plan_smoke(verified, verified.environment, options.runs, every=options.every))


def _keep_up(up: KeptUp, halt: threading.Event, progress: Progress, *, qr: bool) -> bool:
    """Say where a run is up, until somebody has seen enough or it ends by itself; return whether somebody had.

    Ctrl+C is then how it is meant to end, no interruption.
    """
    run = up.report
    for check in run.checks:
        progress.say(f"{check.verdict:<8} {check.name}: {check.seen}")
    progress.say(f"{run.name} is up at {run.url or 'no address of its own'}; Ctrl+C stops it")
    _tell_other_devices(run, progress, qr=qr)
    progress.stage(run.name, f"kept up{f' at {run.url}' if run.url else ''}; Ctrl+C stops it")
    while not up.wait(0.1):
        if halt.is_set():
            return True
    progress.say(f"{run.name} has ended by itself")
    return False


def _tell_other_devices(run: Run, progress: Progress, *, qr: bool) -> None:
    """Say where other devices find a run that is meant to be reached by them (`expose = true`)."""
    from dokimon.cli.qr_code import drawn
    from dokimon.core.processes.sockets import addresses_for_others

    addresses = addresses_for_others(run.url, run.listening) if run.exposure_meant else ()
    for address in addresses:
        progress.say(f"other devices reach it at {address}")
    if not qr:
        return
    if not addresses:
        why = "this machine is in no network" if run.exposure_meant else "its [[run]] does not say expose = true"
        progress.say(f"no QR code: there is no address for other devices, as {why}")
        return
    try:
        lines = drawn(addresses[0])
    except ModuleNotFoundError:
        progress.say("no QR code: it needs the package segno, which pip install 'dokimon[qr]' brings")
        return
    for line in lines:
        progress.say(line)
