"""Dokimon as a library; `import dokimon` offers all of this. Nothing here prints, and nothing is loaded before it is used.

Each function takes the folder to look in (by default the current one) and the environment variables to look with (by
default those of this process). See docs/api.md.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Mapping, Sequence
from contextlib import AbstractContextManager
from pathlib import Path
from typing import TYPE_CHECKING

from dokimon.core.report.model import Report

if TYPE_CHECKING:
    from dokimon.core.jobs.running import Running

__all__ = ["Report", "needs", "plan", "running", "smoke", "tools", "verify"]

Folder = str | os.PathLike[str]


def needs(folder: Folder = ".", *, environment: Mapping[str, str] | None = None) -> Report:
    """Return what the project in `folder` declares, and whether that can all be true (`dokimon needs`).

    Raises `SettingsFault` and `CatalogueFault`.
    """
    from dokimon.core.jobs import needs as job
    from dokimon.core.jobs.provenance import with_provenance

    return with_provenance(job.needs_report(job.declare(Path(folder).resolve(), _variables(environment))))


def tools(
    *names: str, folder: Folder = ".", fresh: bool = False, environment: Mapping[str, str] | None = None
) -> Report:
    """Return the copies of these tools or commands on this machine (`dokimon tools`); all of the catalogue without a name.

    Of tools that are named, their components too. With `fresh` every tool is asked again. Raises `SettingsFault` and
    `CatalogueFault`.
    """
    from dokimon.core.jobs import tools as job
    from dokimon.core.jobs.provenance import with_provenance
    from dokimon.core.jobs.workspace import open_workspace

    variables = _variables(environment)
    workspace = open_workspace(Path(folder).resolve(), variables)
    catalogue = workspace.catalogue
    asked = [catalogue.by_command(name) or name for name in names]
    wanted = asked or catalogue.names()
    report = job.tools_report(workspace, wanted, variables, asked=asked, with_parts=bool(asked), fresh=fresh)
    return with_provenance(report)


def verify(
    folder: Folder = ".",
    *,
    strict: bool = False,
    pick: bool = False,
    fresh: bool = False,
    may_ask: Sequence[str] = (),
    environment: Mapping[str, str] | None = None,
) -> Report:
    """Compare what the project declares with what this machine has (`dokimon verify`).

    With `strict` advised needs decide as required ones do, with `pick` satisfying copies are put first on PATH, with
    `fresh` every tool is asked again. `may_ask` are commands that only the checkout names and that are asked all the same.
    Raises `SettingsFault` and `CatalogueFault`.
    """
    from dokimon.core.jobs import verify as job
    from dokimon.core.jobs.provenance import with_provenance

    verified = job.verify(Path(folder).resolve(), _variables(environment), fresh=fresh, pick=pick, may_ask=may_ask)
    return with_provenance(job.verify_report(verified, strict))


def plan(folder: Folder = ".", *, environment: Mapping[str, str] | None = None) -> Report:
    """Return what `smoke` would do, in `Report.plan`; nothing is run (`dokimon smoke --show-plan`).

    Raises `SettingsFault`, `CatalogueFault` and `PlanFault`.
    """
    from dokimon.core.jobs import smoke as job
    from dokimon.core.jobs.provenance import with_provenance
    from dokimon.core.jobs.verify import verify as verify_folder

    verified = verify_folder(Path(folder).resolve(), _variables(environment))
    return with_provenance(job.plan_report(verified, job.plan_smoke(verified, verified.environment, ())))


def smoke(
    folder: Folder = ".",
    *,
    runs: Sequence[str] = (),
    all_runs: bool = False,
    prepare: bool = True,
    pick: bool = False,
    anyway: bool = False,
    strict: bool = False,
    may_ask: Sequence[str] = (),
    render: bool = True,
    halt: threading.Event | None = None,
    environment: Mapping[str, str] | None = None,
) -> Report:
    """Verify, prepare the project, run it, check that it works, stop it (`dokimon smoke`).

    `runs` picks runs by name, `all_runs` takes every way to start. Where a required need is not met nothing is run, unless
    `anyway`. `may_ask` as for `verify`. Without `render` no browser opens a page that nobody asked to be rendered.
    Setting `halt` from another thread stops everything in good order. This runs the project's own code.
    Raises `SettingsFault`, `CatalogueFault` and `PlanFault`.
    """
    from dokimon.core.jobs import smoke as job
    from dokimon.core.jobs.options import SmokeOptions
    from dokimon.core.jobs.provenance import with_provenance
    from dokimon.core.processes.watching import Watcher

    wishes = SmokeOptions(
        runs=tuple(runs),
        every=all_runs,
        prepare=prepare,
        pick=pick,
        anyway=anyway,
        strict=strict,
        may_ask=tuple(may_ask),
        render=render,
    )
    report = job.smoke(Path(folder).resolve(), _variables(environment), wishes, halt or threading.Event(), Watcher())
    return with_provenance(report)


def running(
    folder: Folder = ".",
    run: str | None = None,
    *,
    prepare: bool = True,
    anyway: bool = False,
    wait: float = 0.0,
    environment: Mapping[str, str] | None = None,
) -> AbstractContextManager[Running]:
    """Prepare and start a run of the project, and stop it at the end of the `with` block; nothing of it is left.

    In the block it is up: `url`, `port` and `output` say where it is and what it has printed. `run` names it where there
    are several; what it comes after is started first. Meanwhile no other smoke check is at work in the checkout: one that
    is there already is waited for, `wait` seconds at most, which the logger `dokimon` tells. Raises `RunFault` where the run
    does not get up, `TurnFault` where another is at work still, `PlanFault` where there are several and none is named.
    """
    from dokimon.core.jobs import running as job

    chosen = (run,) if run else ()
    return job.running(
        Path(folder).resolve(), _variables(environment), chosen, prepare=prepare, anyway=anyway, wait=wait
    )


def _variables(environment: Mapping[str, str] | None) -> Mapping[str, str]:
    return dict(os.environ) if environment is None else environment
