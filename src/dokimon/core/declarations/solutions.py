"""The projects that a solution of .NET names: `.sln`, `.slnx`, and the filters of either (`.slnf`)."""

from __future__ import annotations

import json
import os
import re
from collections.abc import Iterator
from pathlib import Path

from dokimon.core.files import text_of
from dokimon.core.reading.json_places import without_comments
from dokimon.core.reading.manifest import ManifestFault, open_manifest
from dokimon.core.reading.xml import as_xml

ENDINGS = (".csproj", ".fsproj", ".vbproj")
_LARGEST = 4 * 1024 * 1024


def solutions_in(folder: Path) -> list[Path]:
    """Return the solutions that lie in a folder, a filter first: it names what is worked on."""
    found = [path for path in folder.iterdir() if path.suffix in (".slnf", ".slnx", ".sln") and path.is_file()]
    return sorted(found, key=lambda path: ((".slnf", ".slnx", ".sln").index(path.suffix), path.name))


def all_projects_named(solution: Path, root: Path) -> tuple[tuple[str, int], ...]:
    """Return the paths, relative to its folder, of the projects of any kind that a solution names, each with its line.

    Lines count from 1. A place outside of the checkout is none of its projects.
    """
    by_ending = {".sln": _of_text, ".slnx": _of_xml, ".slnf": _of_filter}
    found = by_ending[solution.suffix](solution, root)
    named = ((name.replace("\\", "/"), line) for name, line in found if name.lower().endswith("proj"))
    return tuple((name, line) for name, line in named if _lies_in(solution.parent / name, root))


def projects_named(solution: Path, root: Path) -> tuple[tuple[str, int], ...]:
    """Return those of them that are projects of .NET."""
    return tuple(each for each in all_projects_named(solution, root) if each[0].lower().endswith(ENDINGS))


def _lies_in(path: Path, root: Path) -> bool:
    return Path(os.path.normpath(path)).is_relative_to(root)


def _of_text(solution: Path, root: Path) -> Iterator[tuple[str, int]]:
    pattern = re.compile(r'^\s*Project\("[^"]*"\)\s*=\s*"[^"]*",\s*"([^"]+)"')
    for number, line in enumerate(text_of(solution, _LARGEST).splitlines(), 1):
        if found := pattern.match(line):
            yield found[1], number


def _of_xml(solution: Path, root: Path) -> Iterator[tuple[str, int]]:
    try:
        top = as_xml(open_manifest(solution, root))
    except ManifestFault:
        return
    for project in (*top.all("Project"), *top.all("Folder", "Project")):
        yield project.attributes.get("Path", ""), project.line


def _of_filter(solution: Path, root: Path) -> Iterator[tuple[str, int]]:
    try:
        whole = json.loads(without_comments(text_of(solution, _LARGEST)) or "{}")["solution"]
        names = [str(name).replace("\\", "/") for name in whole["projects"]]
        above = Path(str(whole.get("path", "")).replace("\\", "/")).parent
    except (ValueError, KeyError, TypeError, RecursionError):
        return
    for name in names:
        yield (above / name).as_posix(), 1
