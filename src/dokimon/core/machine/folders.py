"""Folders as the catalogue writes them: `~` for the home, `$NAME` for a variable, `*` for any name."""

from __future__ import annotations

import fnmatch
import os
import re
import time
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

_LIMIT_SECONDS = 2.0
"""What one pattern may take: whoever wrote it may have meant the whole disk."""

_NO_REAL_FOLDERS = ("/proc/", "/sys/", "/dev/")
"""Where folders are no files of anybody: some lead to the root again, for each process."""


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
    return list(map(Path, named_folders(written, environment)))


def named_folders(written: str, environment: Mapping[str, str]) -> list[str]:
    """Return the same as texts: a survey looks at hundreds of them."""
    if written.startswith("/"):
        return _matching(str(system_root(environment)), written[1:])
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
    return _matching("/", written)


def matching(folder: Path, pattern: str) -> list[Path]:
    """Return the paths that match a wildcard pattern below `folder` (`..` leads up), the newest version first.

    Without a wildcard that is the one path, whether it is there or not.
    """
    while pattern.startswith("../"):
        folder, pattern = folder.parent, pattern[3:]
    return list(map(Path, _matching(str(folder), pattern)))


def _matching(folder: str, pattern: str) -> list[str]:
    fixed, star, rest = pattern.partition("*")
    if not star:
        return [_plain(os.path.join(folder, pattern))]  # noqa: PTH118 (as text: there are hundreds)
    base, _, first = fixed.rpartition("/")
    start = _plain(os.path.join(folder, base or ("/" if pattern.startswith("/") else "")))  # noqa: PTH118
    names = (first + star + rest).split("/")
    if _leads_nowhere(start):
        return []
    found = dict.fromkeys(map(_plain, _below(start, names, time.monotonic() + _LIMIT_SECONDS)))
    return sorted(found, key=newest_first, reverse=True)


def _plain(path: str) -> str:
    """Return a path as `Path` would write it."""
    if "//" in path or "/." in path or path.endswith("/"):
        return str(Path(path))
    return path


def _leads_nowhere(folder: str) -> bool:
    """Whether a folder is, or leads to, one where there are no real folders."""
    return any(f"{each}/".startswith(_NO_REAL_FOLDERS) for each in (os.path.normpath(folder), os.path.realpath(folder)))


def _below(folder: str, names: Sequence[str], deadline: float) -> Iterator[str]:
    """Yield what matches the wildcard names below a folder. `**` is any depth of it, through no link."""
    if not names:
        if os.path.lexists(folder):
            yield folder
        return
    name, rest = names[0], names[1:]
    if "*" not in name and "?" not in name and "[" not in name:
        yield from _below(f"{folder}/{name}", rest, deadline)
        return
    if time.monotonic() > deadline:
        return
    try:
        with os.scandir(folder) as entries:
            inside = list(entries)
    except (OSError, ValueError):
        return
    if name == "**":
        yield from _below(folder, rest, deadline)
        for entry in inside:
            if entry.is_dir(follow_symlinks=False) and not f"{entry.path}/".startswith(_NO_REAL_FOLDERS):
                yield from _below(entry.path, names, deadline)
        return
    wanted = re.compile(fnmatch.translate(name))
    for entry in inside:
        if wanted.match(entry.name) and (not rest or entry.is_dir()):
            if (entry.is_symlink() or folder in ("", "/")) and _leads_nowhere(entry.path):
                continue
            yield from _below(entry.path, rest, deadline)


def newest_first(path: Path | str) -> list[tuple[int, str]]:
    """Sort the numbers in a path as numbers, so that the folder of 3.10 comes before that of 3.9 in falling order."""
    return [(int(part), "") if part.isdecimal() else (-1, part) for part in re.split(r"(\d+)", str(path))]
