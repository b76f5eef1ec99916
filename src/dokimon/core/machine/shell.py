"""Lines for the shell in use: POSIX shells, fish, PowerShell."""

from __future__ import annotations

import os
import shlex
from collections.abc import Mapping, Sequence
from pathlib import PurePath


def shell_in_use(environment: Mapping[str, str]) -> str:
    """Return `fish`, `powershell` or `posix`, by what the environment says of the shell."""
    name = PurePath(environment.get("SHELL", "")).name
    if name == "fish":
        return "fish"
    return "powershell" if name in ("pwsh", "powershell") or (not name and "PSModulePath" in environment) else "posix"


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


def _word(folder: str, home: str) -> str:
    if home and folder.startswith(f"{home}/"):
        return '"$HOME"' + shlex.quote(folder[len(home) :])
    return shlex.quote(folder)
