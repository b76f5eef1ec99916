"""Versions that stand in files beside a program, so that nothing has to be run."""

from __future__ import annotations

import fnmatch
import re
from pathlib import Path

from dokimon.core.machine.catalogue import Evidence
from dokimon.core.text import clean

_LARGEST_BYTES = 256 * 1024


def version_in_files(program: Path, real: Path, places: list[Evidence]) -> tuple[str, Path] | None:
    """Return the version and the file that tells it (the program itself where its path does), from the first of `places`.

    `program` is the path as PATH names it, `real` the file behind its links.
    """
    for place in places:
        if not fnmatch.fnmatchcase(real.name, place.program):
            continue
        folder = program.parent if place.of == "named" else real.parent
        for path in _matching(folder, place.path):
            if place.where == "path":
                text = str(path)
            else:
                try:
                    with path.open("rb") as file:
                        text = file.read(_LARGEST_BYTES).decode("utf-8", "replace")
                except OSError:
                    continue
            if found := re.search(place.pattern, text, re.MULTILINE):
                return clean(found[1], 80), program if place.where == "path" else path
    return None


def _matching(folder: Path, relative: str) -> list[Path]:
    while relative.startswith("../"):
        folder, relative = folder.parent, relative[3:]
    if "*" not in relative:
        return [folder / relative]
    # Several matches belong to several copies side by side: which one is meant, only the program can tell.
    matches = list(folder.glob(relative))
    return matches if len(matches) == 1 else []
