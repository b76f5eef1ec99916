"""Walking a checkout: every folder that a person wrote in, none that a tool filled."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

FILLED_BY_TOOLS = frozenset(
    {
        *("node_modules", "bower_components", "jspm_packages", "vendor", "Pods", "Carthage", "deps", "site-packages"),
        *(
            "target",
            "build",
            "dist",
            "out",
            "bin",
            "obj",
            "_build",
            "__pycache__",
            "cmake-build-debug",
            "cmake-build-release",
        ),
        *("venv", "virtualenv", "coverage", "htmlcov", "third_party", "external"),
        *("testdata", "test-data", "test_data", "fixtures", "__fixtures__"),
    }
)
"""Folders of dependencies, of build results, and of files that only tests read."""

HIDDEN_BUT_READ = frozenset(
    {".github", ".circleci", ".config", ".mvn", ".gitlab", ".woodpecker", ".devcontainer", ".cargo", ".fvm"}
)

_DEEPEST = 24

VARIANTS = "Dockerfile."
"""Container files of several purposes (`Dockerfile.dev`) are read as what stands before the dot."""


def walk(folder: Path, names: frozenset[str], endings: frozenset[str]) -> Iterator[tuple[str, list[str]]]:
    """Yield each folder (as a path in text) below and with `folder`, and the files in it that have one of the `names` or
    `endings` (each with its dot), in a fixed order.

    Links to folders are not followed; a folder that may not be read is passed over; so is a virtual environment, and
    a folder with a repository of its own (a submodule is another project).
    """
    waiting = [(str(folder), 0)]
    known: dict[str, bool] = {}  # in a large tree the same names come again and again
    while waiting:
        path, depth = waiting.pop()
        files: list[str] = []
        folders: list[str] = []
        environment = False
        try:
            with os.scandir(path) as entries:
                for entry in entries:
                    if entry.is_dir(follow_symlinks=False):
                        folders.append(entry.name)
                        continue
                    name = entry.name
                    wanted = known.get(name)
                    if wanted is None:
                        wanted = name in names or name[name.rfind(".") :] in endings or name.startswith(VARIANTS)
                        known[name] = wanted
                    if wanted:
                        files.append(name)
                    elif name == "pyvenv.cfg":
                        environment = True
        except OSError:
            continue
        if depth and (environment or ".git" in folders):
            continue
        if files:
            yield path, sorted(files)
        if depth < _DEEPEST:
            folders = [name for name in folders if _is_read(name, path)]
            folders.sort(reverse=True)
            waiting += [(f"{path}/{name}", depth + 1) for name in folders]


def files_near(folder: Path, endings: tuple[str, ...], levels: int) -> Iterator[Path]:
    """Yield the files in a folder, and so many levels below it, that end in one of these: level by level, in order of name.

    Folders that tools fill and hidden ones are passed over, and no link is followed.
    """
    here = [str(folder)]
    for _ in range(levels + 1):
        below: list[str] = []
        found: list[str] = []
        for place in here:
            try:
                with os.scandir(place) as entries:
                    for entry in entries:
                        if not entry.is_dir(follow_symlinks=False):
                            found += [entry.path] if entry.name.endswith(endings) else []
                        elif not entry.name.startswith(".") and _is_read(entry.name, place):
                            below.append(entry.path)
            except OSError:
                continue
        yield from map(Path, sorted(found))
        here = below


def files_below(folder: Path, most: int) -> tuple[dict[str, os.stat_result], bool]:
    """Return the files that a person may have written below `folder`, by their path relative to it, each with its status,
    and whether that is all: at most `most`. The same folders are passed over as by `walk`; of links nothing is said.
    """
    found: dict[str, os.stat_result] = {}
    waiting = [("", 0)]
    while waiting:
        below, depth = waiting.pop()
        here: dict[str, os.stat_result] = {}
        folders: list[str] = []
        try:
            with os.scandir(folder / below) as entries:
                for entry in entries:
                    if entry.is_dir(follow_symlinks=False):
                        folders.append(entry.name)
                    elif entry.is_file(follow_symlinks=False) and len(found) + len(here) < most:
                        here[f"{below}{entry.name}"] = entry.stat(follow_symlinks=False)
        except OSError:
            continue
        if depth and (f"{below}pyvenv.cfg" in here or ".git" in folders):
            continue
        found |= here
        if len(found) >= most:
            return found, False
        if depth < _DEEPEST:
            folders = sorted((name for name in folders if _is_read(name, f"/{below.rstrip('/')}")), reverse=True)
            waiting += [(f"{below}{name}/", depth + 1) for name in folders]
    return found, True


def _is_read(name: str, above: str) -> bool:
    if name.startswith("."):
        return name in HIDDEN_BUT_READ
    if name.startswith("resources") and above.endswith("/test"):  # what only tests read, in a layout of the JVM's
        return False
    return name not in FILLED_BY_TOOLS and name.lower() not in FILLED_BY_TOOLS and "{{" not in name
