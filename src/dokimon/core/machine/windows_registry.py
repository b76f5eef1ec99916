"""The Windows registry, which names the folders that installers have chosen. Elsewhere there is none."""

from __future__ import annotations

import sys
from pathlib import Path


def registry_folders(key: str) -> list[Path]:
    """Return the folders that a registry value names (`HKLM\\SOFTWARE\\Node.js|InstallPath`, `*` for any key)."""
    if sys.platform == "win32":
        return _folders(key)
    return []


if sys.platform == "win32":

    def _folders(key: str) -> list[Path]:
        import winreg

        root, _, rest = key.partition("\\")
        path, _, value = rest.partition("|")
        hive = {"HKLM": winreg.HKEY_LOCAL_MACHINE, "HKCU": winreg.HKEY_CURRENT_USER}[root]

        def opened(path: str) -> list[str]:
            before, star, after = path.partition("\\*")
            if not star:
                return [path]
            try:
                with winreg.OpenKey(hive, before) as handle:
                    names = [winreg.EnumKey(handle, i) for i in range(winreg.QueryInfoKey(handle)[0])]
            except OSError:
                return []
            return [each for name in names for each in opened(f"{before}\\{name}{after}")]

        folders = []
        for each in opened(path):
            try:
                with winreg.OpenKey(hive, each) as handle:
                    folders.append(Path(str(winreg.QueryValueEx(handle, value)[0])))
            except OSError:
                continue
        return folders
