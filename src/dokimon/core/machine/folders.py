"""Folders as the catalogue writes them: `~` for the home, `$NAME` for a variable, `*` for any name."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path


def home_of(environment: Mapping[str, str]) -> Path | None:
    """Return the home folder, or None where the environment names none."""
    home = environment.get("HOME") or environment.get("USERPROFILE", "")
    return Path(home) if home and Path(home).is_absolute() else None


def system_root(environment: Mapping[str, str]) -> Path:
    """Return the folder below which the system's own places are looked for: `/`, unless `DOKIMON_ROOT` names another.

    Tests set it, so that they pass whatever the machine has. PATH, the home and variables are not moved by it.
    """
    named = environment.get("DOKIMON_ROOT", "")
    return Path(named) if named.startswith("/") else Path("/")


def folders_of(written: str, environment: Mapping[str, str]) -> list[Path]:
    """Return the paths that `written` stands for here, the newest version first; none where a variable is not set."""
    if written.startswith("/"):
        return matching(system_root(environment), written[1:])
    if written.startswith("~"):
        home = home_of(environment)
        if home is None:
            return []
        written = f"{home}{written[1:]}"
    for name in re.findall(r"\$(\w+)", written):
        value = environment.get(name, "")
        if not Path(value).is_absolute():
            return []
        written = written.replace(f"${name}", value)
    return matching(Path("/"), written)


def matching(folder: Path, pattern: str) -> list[Path]:
    """Return the paths that match a wildcard pattern below `folder` (`..` leads up), the newest version first.

    Without a wildcard that is the one path, whether it is there or not.
    """
    while pattern.startswith("../"):
        folder, pattern = folder.parent, pattern[3:]
    fixed, star, rest = pattern.partition("*")
    base, _, first = fixed.rpartition("/")
    if not star:
        return [folder / pattern]
    start = folder / (base or ("/" if pattern.startswith("/") else ""))
    try:
        return sorted(start.glob(first + star + rest), key=newest_first, reverse=True)
    except (OSError, ValueError):
        return []


def newest_first(path: Path) -> list[tuple[int, str]]:
    """Sort the numbers in a path as numbers, so that the folder of 3.10 comes before that of 3.9 in falling order."""
    return [(int(part), "") if part.isdecimal() else (-1, part) for part in re.split(r"(\d+)", str(path))]
