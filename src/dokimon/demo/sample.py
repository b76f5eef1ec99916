"""Copying the sample project to where it may be run and changed."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from collections.abc import Mapping
from pathlib import Path
from typing import NamedTuple


class Sample(NamedTuple):
    """A sample project: its folder beside this file, and what breaks it: a text of its settings and another in its place."""

    folder: str
    right: str
    wrong: str


FERRIES = Sample("saltmarsh-ferries", 'environment = { TIDE_SERVICE = "{tide-service.url}" }', "")
"""In the broken sample the board does not know where the tide service is."""
DEVICES = Sample("saltmarsh-devices", "--flash 4MB", "--flash 2MB")
"""Broken, the buoy is a board of the wrong kind."""


def copy_sample(sample: Sample, folder: Path, *, broken: bool = False) -> None:
    """Copy a sample project to `folder`, which is made, perhaps with what breaks it; raises `OSError`."""
    source = Path(__file__).with_name(sample.folder)
    shutil.copytree(source, folder, dirs_exist_ok=True, ignore=shutil.ignore_patterns("__pycache__"))
    if broken:
        settings = folder / "dokimon.toml"
        settings.write_text(settings.read_text("utf-8").replace(sample.right, sample.wrong), "utf-8")


LATER_CHANGE = ("board/__main__.py", '"to": "Heron Quay"', '"destination": "Heron Quay"')
"""What somebody changes in the ferries after all has passed: a file, a text of it, and another in its place."""


def change_later(folder: Path) -> None:
    """Make the later change in a copy of the ferries: what the board answers is not what is expected any more."""
    name, right, wrong = LATER_CHANGE
    file = folder / name
    file.write_text(file.read_text("utf-8").replace(right, wrong), "utf-8")


def commit(folder: Path, environment: Mapping[str, str]) -> bool:
    """Make a copy a repository of git's with one commit, whatever the settings of this user; False where there is no git."""
    git = shutil.which("git", path=environment.get("PATH"))
    if git is None:
        return False
    variables = {**environment, "GIT_CONFIG_GLOBAL": os.devnull, "GIT_CONFIG_SYSTEM": os.devnull}
    name = ["-c", "user.name=Saltmarsh Ferries", "-c", "user.email=pier@saltmarsh.example"]
    for arguments in (["init", "-q"], ["add", "-A"], [*name, "commit", "-q", "-m", "The sample"]):
        ended = subprocess.run([git, *arguments], cwd=folder, env=variables, capture_output=True, check=False)
        if ended.returncode:
            return False
    return True


def with_own_python(environment: Mapping[str, str]) -> str:
    """Return PATH with the folder of the Python that Dokimon runs on in front."""
    return str(Path(sys.executable).parent) + os.pathsep + environment.get("PATH", os.defpath)
