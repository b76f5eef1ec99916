"""Plain pages: a folder that is served."""

from __future__ import annotations

import sys

from dokimon.core.planning.plan import Plan, PlanContext, RunPlan


def plan(context: PlanContext) -> Plan | None:
    """A folder of plain pages, served by the Python that Dokimon runs on."""
    for name in ("index.html", "public/index.html", "site/index.html", "docs/index.html"):
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
            )
            return Plan(prepare=(), runs=(run,))
    return None
