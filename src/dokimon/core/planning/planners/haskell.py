"""Haskell: the executables of a package, built by Stack or by cabal."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

from dokimon.core.expressions import expression
from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, PlanContext, PrepareStep, Rank, RunPlan
from dokimon.core.planning.planners.names import folder_names


def plan(context: PlanContext) -> Plan | None:
    """Return the plan for a folder with a `.cabal` file or a `package.yaml`, or None for any other."""
    folder = context.folder
    path = next(iter(sorted(folder.glob("*.cabal"))), folder / "package.yaml")
    if not path.is_file():
        return None
    stack = (folder / "stack.yaml").is_file()
    build, run = (("stack", "build"), ("stack", "exec")) if stack else (("cabal", "build"), ("cabal", "exec", "--"))
    found = list(_executables(path))
    if not found:
        return Plan()
    found.sort(key=lambda each: each[0].lower() not in {path.stem.lower(), *folder_names(folder)})
    step = PrepareStep(
        title="build",
        command=build,
        folder=folder,
        source=context.source(path),
        needed=f"{build[0]} knows what must be built",
    )
    runs = tuple(
        RunPlan(name=name, command=(*run, name), folder=folder, source=context.source(path, line), rank=Rank.COMMAND)
        for name, line in found
    )
    return Plan(prepare=(step,), runs=runs)


def _executables(path: Path) -> Iterator[tuple[str, int]]:
    """Yield the executables that a `.cabal` file or a `package.yaml` (hpack, "executables") names, with their lines."""
    text = text_of(path)
    if path.suffix == ".cabal":
        yield from ((match[1], text.count("\n", 0, match.start(1)) + 1) for match in _EXECUTABLE.finditer(text))
    elif block := _OF_PACKAGE.search(text):
        for match in re.finditer(r"^(?:  |    |\t)([\w-]+):[ \t]*$", block[1], re.MULTILINE):
            yield match[1], text.count("\n", 0, block.start(1) + match.start()) + 1


_OF_PACKAGE = expression(r"^executables:[ \t]*\n((?:[ \t].*\n|\n)*)", re.MULTILINE)
_EXECUTABLE = expression(r"^executable\s+(\S+)\s*$", re.MULTILINE | re.IGNORECASE)
