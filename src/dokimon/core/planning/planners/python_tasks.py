"""Python: tasks that pyproject.toml names for the tools that carry them out (PDM, Hatch, Poe, Taskipy, Rye)."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from dokimon.core.planning.plan import PlanContext, Rank, RunPlan
from dokimon.core.planning.planners.python_start import Start
from dokimon.core.reading.manifest import ManifestFault, as_toml, open_manifest
from dokimon.core.reading.toml_lines import toml_line
from dokimon.core.text import clean

_TABLES = (
    ("tool", "pdm", "scripts"), ("tool", "poe", "tasks"), ("tool", "taskipy", "tasks"), ("tool", "rye", "scripts"),
    ("tool", "hatch", "envs", "default", "scripts"),
)  # fmt: skip
_NAMES = ("dev", "start", "serve", "run", "runserver", "server")


def tasks(context: PlanContext) -> Iterator[Start]:
    """Yield the tasks that start the project; they are commands, carried out in its environment."""
    try:
        manifest = open_manifest(context.folder / "pyproject.toml", context.root)
        data = as_toml(manifest)
    except ManifestFault:
        return
    for keys in _TABLES:
        table: Any = data
        for key in keys:
            table = table.get(key) if isinstance(table, dict) else None
        for name in _NAMES if isinstance(table, dict) else ():
            command = _command(table.get(name))
            if command:
                source = manifest.source(toml_line(manifest.text, (*keys, name)))
                run = RunPlan(name=name, command=command, folder=context.folder, source=source, rank=Rank.TASK)
                yield Start(run)


def _command(value: object) -> str | None:
    """Return the command line of a task: a text, the lines of a list one after the other, or a table's `cmd` or `shell`."""
    if isinstance(value, dict):
        value = value.get("cmd") or value.get("shell")
    if isinstance(value, list) and value and all(isinstance(each, str) for each in value):
        value = " && ".join(value)
    if not isinstance(value, str) or "{" in value or "$" in value:
        return None  # what it stands for only its own tool knows
    return clean(value, 500) or None
