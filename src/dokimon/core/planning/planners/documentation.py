"""Documentation written for MkDocs or Sphinx: served or built by what Python packages bring."""

from __future__ import annotations

import os
import re
from pathlib import Path

import msgspec

from dokimon.core.expressions import expression
from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, PlanContext, Rank, RunPlan
from dokimon.core.planning.planners.by_manifest import is_beside
from dokimon.core.planning.planners.python_environment import WantedPackages, environment_for

_REQUIREMENTS = ("requirements.txt", "docs/requirements.txt", "requirements-docs.txt", "docs-requirements.txt")
_SPHINX = expression(r"^[ \t]*(?:extensions|project|html_theme|master_doc)\s*=", re.MULTILINE)


def plan(context: PlanContext) -> Plan | None:
    """Return how the folder's documentation is served or built; beside another project it is only proposed."""
    found = _mkdocs(context) or _sphinx(context)
    if found is None:
        return None
    run, path, packages = found
    if is_beside(context.folder):
        return Plan(runs=(run,))
    listed = next((name for name in _REQUIREMENTS if (context.folder / name).is_file()), None)
    wanted = WantedPackages(
        arguments=("-r", listed) if listed else packages,
        requirements=() if listed else packages,
        source=context.source(context.folder / listed if listed else path),
    )
    environment, steps = environment_for(context, [wanted])
    variables = environment.variables(context.environment.get("PATH", os.defpath))
    run = msgspec.structs.replace(run, environment=variables)
    return Plan(prepare=tuple(steps), runs=(run,), words={"python": environment.python})


def _mkdocs(context: PlanContext) -> tuple[RunPlan, Path, tuple[str, ...]] | None:
    path = next((context.folder / n for n in ("mkdocs.yml", "mkdocs.yaml") if (context.folder / n).is_file()), None)
    if path is None:
        return None
    command = ("mkdocs", "serve", "--dev-addr", "127.0.0.1:{port}")
    theme = re.search(r"^theme:[ \t]*(?:\n\s+name:[ \t]*)?['\"]?([\w-]+)", text_of(path), re.MULTILINE)
    more = ("mkdocs-material",) if theme and theme[1] == "material" else ()
    run = RunPlan(
        name="documentation",
        command=command,
        folder=context.folder,
        source=context.source(path),
        kind="server",
        port=8000,
        may_move=True,
        rank=Rank.PROPOSAL if is_beside(context.folder) else Rank.FRAMEWORK,
    )
    return run, path, ("mkdocs", *more)


def _sphinx(context: PlanContext) -> tuple[RunPlan, Path, tuple[str, ...]] | None:
    for where in (".", "source", "docs", "doc", "docs/source", "doc/source"):
        path = context.folder / where / "conf.py"
        text = text_of(path) if path.is_file() else ""
        if not _SPHINX.search(text):
            continue
        theme = re.search(r"^[ \t]*html_theme\s*=\s*['\"]([\w-]+)", text, re.MULTILINE)
        more = {"sphinx_rtd_theme": "sphinx-rtd-theme", "furo": "furo", "pydata_sphinx_theme": "pydata-sphinx-theme"}
        packages = ("sphinx", *([more[theme[1]]] if theme and theme[1] in more else []))
        run = RunPlan(
            name="documentation",
            command=("sphinx-build", "-b", "html", where, f"{where}/_build/html".removeprefix("./")),
            folder=context.folder,
            source=context.source(path),
            kind="program",
            rank=Rank.PROPOSAL if is_beside(context.folder) else Rank.COMMAND,
        )
        return run, path, packages
    return None
