"""The environment that Dokimon itself is installed in: it is never a project's, though it may be the active one."""

from __future__ import annotations

import os
import sys
from collections.abc import Mapping
from pathlib import Path

from dokimon.core.machine.platform import PROGRAMS_FOLDER


def own_environment() -> Path | None:
    """Return the folder of the virtual environment (PEP 405) that Dokimon runs in; None where it runs in none."""
    return Path(sys.prefix) if sys.prefix != sys.base_prefix else None


def is_own(folder: Path) -> bool:
    """Whether a folder is that of Dokimon's own environment, by whatever path it is reached."""
    own = own_environment()
    try:
        return own is not None and folder.resolve() == own.resolve()
    except OSError:
        return False


def without_own(environment: Mapping[str, str], root: Path) -> Mapping[str, str]:
    """Return variables by which the environment of Dokimon's own is neither active nor on PATH.

    They stay as they are where it lies in the checkout at `root`, whose own it is then, or where that is Dokimon itself.
    """
    own = own_environment()
    if own is None or own.is_relative_to(root) or Path(__file__).is_relative_to(root):
        return environment
    kept = [part for part in environment.get("PATH", "").split(os.pathsep) if not _is_its_programs(part)]
    changed = {**environment, **({"PATH": os.pathsep.join(kept)} if "PATH" in environment else {})}
    if is_own(Path(environment.get("VIRTUAL_ENV", ""))):
        del changed["VIRTUAL_ENV"]
    return changed


def _is_its_programs(part: str) -> bool:
    path = Path(part)
    return bool(part) and path.name == PROGRAMS_FOLDER and is_own(path.parent)
