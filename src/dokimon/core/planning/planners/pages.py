"""Plain pages: a folder that is served."""

from __future__ import annotations

import sys

from dokimon.core.planning.plan import Plan, PlanContext, Rank, RunPlan
from dokimon.core.planning.planners.by_manifest import is_beside


def plan(context: PlanContext) -> Plan | None:
    """A folder of plain pages, served by the Python that Dokimon runs on."""
    for name in ("index.html", "public/index.html", "site/index.html", "docs/index.html"):
        # The pages of a project's documentation are not the project.
        beside = name.startswith("docs/") and is_beside(context.folder)
        page = context.folder / name
        if page.is_file():
            where = str(page.parent.relative_to(context.folder))
            command = (sys.executable, "-m", "http.server", "{port}", "--bind", "127.0.0.1", "--directory", where)
            run = RunPlan(
                name="pages",
                command=command,
                folder=context.folder,
                source=context.source(page),
                kind="server",
                port=8000,
                may_move=True,
                rank=Rank.PROPOSAL if beside else Rank.FILE,
            )
            return Plan(prepare=(), runs=(run,))
    return None
