"""Deno: a task of its configuration."""

from __future__ import annotations

import re

from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, PlanContext, Rank, RunPlan


def plan(context: PlanContext) -> Plan | None:
    """A task of `deno.json`, by the names that are usual for scripts."""
    for name in ("deno.json", "deno.jsonc"):
        path = context.folder / name
        if not path.is_file():
            continue
        text = text_of(path)
        for task in ("dev", "start", "serve"):
            if found := re.search(rf'"{task}"\s*:\s*["{{]', text):
                line = text.count("\n", 0, found.start()) + 1
                return Plan(
                    prepare=(),
                    runs=(
                        RunPlan(
                            rank=Rank.SCRIPT,
                            name=task,
                            command=("deno", "task", task),
                            folder=context.folder,
                            source=context.source(path, line),
                        ),
                    ),
                )
        return Plan()
    return None
