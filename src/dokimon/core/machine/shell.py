"""Lines for the shell in use: POSIX shells, fish, PowerShell; for this session, and for good."""

from __future__ import annotations

import os
import re
import shlex
import sys
from collections.abc import Mapping, Sequence
from pathlib import Path, PurePath
from typing import NamedTuple

from dokimon.core.files import text_of

SHELLS = ("bash", "zsh", "fish", "ksh", "dash", "posix", "powershell")


def shell_in_use(environment: Mapping[str, str]) -> str:
    """Return one of `SHELLS`, by what the environment says of the shell; `posix` for one that is not known."""
    name = PurePath(environment.get("SHELL", "")).name
    if name in ("pwsh", "powershell") or (not name and "PSModulePath" in environment):
        return "powershell"
    return {"sh": "dash", "ash": "dash", "mksh": "ksh", "ksh93": "ksh"}.get(name, name if name in SHELLS else "posix")


class Lasting(NamedTuple):
    """How a folder is put first on PATH for good: the line, and the start-up file that takes it; None where there is none.

    `there` is the place (`~/.bashrc:12`) where a start-up file does so already.
    """

    line: str
    file: str | None
    there: str | None = None


_START_UP_FILES = {
    "bash": (".bashrc", ".bash_profile", ".profile"), "zsh": (".zshrc", ".zprofile", ".zshenv"),
    "ksh": (".kshrc", ".profile"), "dash": (".profile",), "posix": (".profile", ".bashrc", ".zshrc"),
    "fish": (".config/fish/config.fish",), "powershell": (),
}  # fmt: skip
"""Where each shell reads what it is given for good, the usual place first (bash(1), zsh(1), "STARTUP/SHUTDOWN FILES")."""


def put_first_for_good(folders: Sequence[str], shell: str, home: str) -> Lasting:
    """Return how `folders` are put first on PATH in every session from now on."""
    files = _START_UP_FILES[shell]
    there = next((place for file in files if (place := _adds(f"{home}/{file}", folders, home))), None)
    if shell == "fish":
        return Lasting(f"fish_add_path {' '.join(_word(folder, home) for folder in folders)}", None, there)
    file = "$PROFILE" if shell == "powershell" else f"~/{files[0]}"
    if shell == "bash" and sys.platform == "darwin":
        file = "~/.bash_profile"  # a terminal window there starts a login shell
    return Lasting(put_first(folders, shell, home), file, there)


def _adds(file: str, folders: Sequence[str], home: str) -> str | None:
    """Return the place of a line that names every one of the folders, in any way of writing it."""
    for number, line in enumerate(text_of(Path(file)).splitlines(), 1):
        plain = line.split("#")[0].replace('"', "").replace("'", "")
        if "PATH" not in plain and "path" not in plain:
            continue
        for name in ("$HOME", "${HOME}", "~"):
            plain = plain.replace(f"{name}/", f"{home}/")
        if all(re.search(rf"{re.escape(folder)}/?(?![\w./-])", plain) for folder in folders):
            return f"{file.replace(home, '~', 1)}:{number}"
    return None


def put_first(folders: Sequence[str], shell: str, home: str = "") -> str:
    """Return the line that puts `folders`, in their order, before all others on PATH.

    Folders below `home` are written by the shell's variable HOME (not for PowerShell): shorter, and fit to be shown.
    """
    if shell == "powershell":
        joined = os.pathsep.join(folders).replace("'", "''")
        return f"$env:PATH = '{joined}{os.pathsep}' + $env:PATH"
    words = [_word(folder, home) for folder in folders]
    if shell == "fish":
        return f"set -gx PATH {' '.join(words)} $PATH"
    return f'export PATH={os.pathsep.join(words)}{os.pathsep}"$PATH"'


def set_variable(name: str, value: str, shell: str) -> str:
    """Return the line that sets an environment variable."""
    if shell == "powershell":
        return f"$env:{name} = '{value.replace(chr(39), chr(39) * 2)}'"
    quoted = shlex.quote(value)
    return f"set -gx {name} {quoted}" if shell == "fish" else f"export {name}={quoted}"


def _word(folder: str, home: str) -> str:
    if home and folder.startswith(f"{home}/"):
        return '"$HOME"' + shlex.quote(folder[len(home) :])
    return shlex.quote(folder)
