"""Swift: the executables of a package."""

from __future__ import annotations

import re

from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, PlanContext, Rank, RunPlan


def plan(context: PlanContext) -> Plan | None:
    """The executable targets of a package (docs.swift.org, "PackageDescription")."""
    path = context.folder / "Package.swift"
    if not path.is_file():
        return None
    text = text_of(path)
    found = re.finditer(r"\.executable(?:Target)?\s*\(\s*name:\s*\"([^\"]+)\"", text)
    lines = {match[1]: text.count("\n", 0, match.start()) + 1 for match in found}
    runs = (
        RunPlan(
            rank=Rank.COMMAND,
            name=name,
            command=("swift", "run", name),
            folder=context.folder,
            source=context.source(path, line),
        )
        for name, line in lines.items()
    )
    return Plan(prepare=(), runs=tuple(runs))
