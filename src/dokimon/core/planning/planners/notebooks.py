"""Jupyter notebooks: the server that the README starts for them, or their cells, carried out from top to bottom."""

from __future__ import annotations

import json
import os
import re
from pathlib import Path

import msgspec

from dokimon.core.expressions import expression
from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, PlanContext, Rank, RunPlan
from dokimon.core.planning.planners import run_notebooks
from dokimon.core.planning.planners.python_environment import WantedPackages, declared_packages, environment_for

_READMES = ("README.md", "Readme.md", "readme.md", "README.rst", "README", "README.txt")
_SERVED = expression(r"(?m)^[ \t]*(?:[$>%][ \t]*)?`?(jupyter[ -](?:lab|notebook)|voila)\b([^\n`#&|;]*)")
_MOST = 20
_LARGEST = 20_000_000
_CARRIES_OUT = ("nbclient", "ipykernel")


def plan(context: PlanContext) -> Plan | None:
    """Return how the notebooks of a folder, or of its `notebooks`, are served or carried out; None where it has none."""
    found = [path for place in ("*.ipynb", "notebooks/*.ipynb") for path in sorted(context.folder.glob(place))]
    found = [path for path in found if _has_code(path)][:_MOST]
    if not found:
        return None
    server = _server(context)
    more = server[1] if server else _CARRIES_OUT
    wanted = declared_packages(context)
    wanted.append(WantedPackages(arguments=more, requirements=more, source=context.source(found[0])))
    environment, steps = environment_for(context, wanted)
    variables = {**environment.variables(context.environment.get("PATH", os.defpath)), "PYTHONUNBUFFERED": "1"}
    is_package = (context.folder / "setup.py").is_file() or "[build-system]" in text_of(
        context.folder / "pyproject.toml"
    )
    names = [path.relative_to(context.folder).as_posix() for path in found]
    run = RunPlan(
        name="notebooks",
        command=("{python}", run_notebooks.__file__, *names),
        folder=context.folder,
        source=context.source(found[0]),
        kind="program",
        environment=variables,
        words={"python": environment.python},
        rank=Rank.PROPOSAL if is_package else Rank.FILE,  # a library's show what can be done with it
        shown_as=f"the cells of {', '.join(names[:3])}{' …' if names[3:] else ''}, top to bottom, in a copy",
    )
    runs: tuple[RunPlan, ...] = (server[0], run) if server else (run,)
    runs = tuple(msgspec.structs.replace(each, environment=variables) for each in runs)
    return Plan(prepare=tuple(steps), runs=runs, words={"python": environment.python}, environment=variables)


def _has_code(path: Path) -> bool:
    """Whether a file is a notebook of format 4 with a cell of code (nbformat, "The notebook file format")."""
    try:
        cells = json.loads(text_of(path, _LARGEST)).get("cells", [])
    except (ValueError, AttributeError, RecursionError):
        return path.is_file()  # what is no notebook is said by the one who carries it out
    return any(isinstance(each, dict) and each.get("cell_type") == "code" for each in cells)


def _server(context: PlanContext) -> tuple[RunPlan, tuple[str, ...]] | None:
    """Return the run of the server that the README starts, and the packages that bring it."""
    path = next((context.folder / name for name in _READMES if (context.folder / name).is_file()), None)
    text = text_of(path, 200_000) if path else ""
    found = _SERVED.search(text)
    if path is None or found is None:
        return None
    tool = found[1].replace("-", " ")
    files = [word for word in found[2].split() if re.fullmatch(r"[\w./-]+\.ipynb", word)]
    as_root = ("--allow-root",) if hasattr(os, "geteuid") and os.geteuid() == 0 and tool != "voila" else ()
    run = RunPlan(
        name=tool,
        command=(*tool.split(), *files, "--no-browser", "--port={port}", *as_root),
        folder=context.folder,
        source=context.source(path, text.count("\n", 0, found.start(1)) + 1),
        kind="server",
        port=8866 if tool == "voila" else 8888,
        may_move=True,
        rank=Rank.COMMAND,
    )
    return run, (_BROUGHT_BY[tool],)


_BROUGHT_BY = {"voila": "voila", "jupyter lab": "jupyterlab", "jupyter notebook": "notebook"}
