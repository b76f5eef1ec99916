"""Copying the sample project to where it may be run and changed."""

from __future__ import annotations

import os
import shutil
import sys
from collections.abc import Mapping
from pathlib import Path

_SAMPLE = Path(__file__).with_name("saltmarsh-ferries")


_TOLD = "environment = { TIDE_SERVICE ="
"""The line of the sample's settings that tells the board where the tide service is."""


def copy_sample(folder: Path, *, broken: bool = False) -> None:
    """Copy the sample project to `folder`, which is made; raises `OSError`.

    A `broken` one does not tell the board where the tide service is.
    """
    shutil.copytree(_SAMPLE, folder, dirs_exist_ok=True, ignore=shutil.ignore_patterns("__pycache__"))
    if broken:
        settings = folder / "dokimon.toml"
        lines = settings.read_text("utf-8").splitlines(keepends=True)
        settings.write_text("".join(line for line in lines if not line.startswith(_TOLD)), "utf-8")


def with_own_python(environment: Mapping[str, str]) -> str:
    """Return PATH with the folder of the Python that Dokimon runs on in front."""
    return str(Path(sys.executable).parent) + os.pathsep + environment.get("PATH", os.defpath)
