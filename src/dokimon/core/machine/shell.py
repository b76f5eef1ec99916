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


def put_first(folders: Sequence[str], shell: str) -> str:
    """Return the line that puts `folders`, in their order, before all others on PATH."""
    if shell == "fish":
        return f"set -gx PATH {' '.join(shlex.quote(folder) for folder in folders)} $PATH"
    if shell == "powershell":
        joined = os.pathsep.join(folders).replace("'", "''")
        return f"$env:PATH = '{joined}{os.pathsep}' + $env:PATH"
    return f'export PATH={os.pathsep.join(shlex.quote(folder) for folder in folders)}{os.pathsep}"$PATH"'
