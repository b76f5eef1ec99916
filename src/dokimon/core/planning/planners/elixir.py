"""Elixir: Phoenix, or the project itself."""

from __future__ import annotations

import re

from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, PlanContext, PrepareStep, Rank, RunPlan


def plan(context: PlanContext) -> Plan | None:
    """Mix: dependencies, then Phoenix's server or the application itself."""
    path = context.folder / "mix.exs"
    if not path.is_file():
        return None
    text = text_of(path)
    steps: tuple[PrepareStep, ...] = ()
    if re.search(r"\{\s*:\w+\s*,", text):
        needed = None if (context.folder / "deps").is_dir() else "there is no folder deps"
        steps = (
            PrepareStep(
                title="fetch dependencies",
                command=("mix", "deps.get"),
                folder=context.folder,
                source=context.source(path),
                needed=needed,
            ),
        )
    if ":phoenix" in text:
        run = RunPlan(
            rank=Rank.FRAMEWORK,
            name="phoenix",
            command=("mix", "phx.server"),
            folder=context.folder,
            source=context.source(path),
            kind="server",
            port=4000,
        )
    else:
        run = RunPlan(
            rank=Rank.FRAMEWORK,
            name="mix",
            command=("mix", "run", "--no-halt"),
            folder=context.folder,
            source=context.source(path),
        )
    return Plan(prepare=steps, runs=(run,))
