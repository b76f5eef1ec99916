"""Copying the sample project to where it may be run and changed."""

from __future__ import annotations

import os
import shutil
import sys
from collections.abc import Mapping
from pathlib import Path

_SAMPLE = Path(__file__).with_name("saltmarsh-ferries")


def copy_sample(folder: Path) -> None:
    """Copy the sample project to `folder`, which is made; raises `OSError`."""
    shutil.copytree(_SAMPLE, folder, dirs_exist_ok=True, ignore=shutil.ignore_patterns("__pycache__"))


def with_own_python(environment: Mapping[str, str]) -> str:
    """Return PATH with the folder of the Python that Dokimon runs on in front."""
    return str(Path(sys.executable).parent) + os.pathsep + environment.get("PATH", os.defpath)
