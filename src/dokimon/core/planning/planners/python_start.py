"""What the ways to start a Python project have in common."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

from dokimon.core.planning.plan import RunPlan

_MANIFESTS = ("pyproject.toml", "requirements.txt", "setup.py", "setup.cfg", "manage.py", "Pipfile", "environment.yml")
SKIPPED_FOLDERS = frozenset({"tests", "test", "docs", "examples", "node_modules", "build", "dist", "env", "venv"})
"""Folders whose programs are not what the project is for."""


def is_project(folder: Path) -> bool:
    """Whether a folder has a file by which it is a project of Python's."""
    return any((folder / name).is_file() for name in _MANIFESTS)


class Start(NamedTuple):
    """How to start, the packages needed where the project declares none, and whether the project itself is installed."""

    run: RunPlan
    packages: tuple[str, ...] = ()
    installed: bool = False
