"""What the shell offers when Tab is pressed: names of tools, and of the runs of the project in the current folder.

Called only while the shell completes a line; whatever goes wrong then ends in no offer, never in a message.
"""

from __future__ import annotations

from pathlib import Path


def complete_tools(incomplete: str) -> list[str]:
    """Return the names of the tools that begin so: of the catalogue, one's own among it, and of the checkout."""
    import os

    from dokimon.core.jobs.workspace import open_workspace

    try:
        names = open_workspace(Path.cwd(), os.environ).catalogue.names()
    except Exception:
        return []
    return [name for name in names if name.startswith(incomplete)]


def complete_runs(incomplete: str) -> list[str]:
    """Return the names of the runs, written or inferred, that begin so. Nothing of the machine is looked at for it."""
    import os

    from dokimon.core.jobs.workspace import open_workspace
    from dokimon.core.planning.making import make_plan
    from dokimon.core.planning.plan import PlanContext

    try:
        workspace = open_workspace(Path.cwd(), os.environ)
        checkout = workspace.checkout
        context = PlanContext(root=checkout.root, folder=checkout.project, environment=dict(os.environ), tools={})
        runs = make_plan(context, workspace.settings, every=True).runs
    except Exception:
        return []
    return [run.name for run in runs if run.name.startswith(incomplete)]


def complete_shells(incomplete: str) -> list[str]:
    """Return the kinds of shell that begin so."""
    from dokimon.core.machine.shell import SHELLS

    return [name for name in SHELLS if name.startswith(incomplete)]
