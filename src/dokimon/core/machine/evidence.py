"""Versions from files beside a program, so that nothing has to be run."""

from __future__ import annotations

import fnmatch
import re
from pathlib import Path

from dokimon.core.files import LARGEST_BYTES, text_of
from dokimon.core.machine.catalogue import Evidence
from dokimon.core.machine.folders import matching
from dokimon.core.text import clean


def version_in_files(program: Path, real: Path, places: list[Evidence]) -> tuple[str, Path] | None:
    """Return the version and the file that has it (the program itself where its path does), from the first of `places`.

    `program` is the path as PATH names it, `real` the file behind its links.
    """
    for place in places:
        if not fnmatch.fnmatchcase(real.name, place.program):
            continue
        folder = _folder(program, real, place.of)
        paths = matching(folder, place.path) if folder else []
        # Several matches belong to several copies side by side: only the program knows which one is meant.
        if len(paths) > 1 and not place.newest:
            continue
        for path in paths:
            if place.inside:
                text = _text_inside(path, place.inside)
            else:
                text = str(path) if place.where == "path" else text_of(path)
            if place.where == "path" and "*" in place.path and not path.exists():
                continue
            if found := re.search(place.pattern, text, re.MULTILINE):
                return clean(found[1], 80), program if place.where == "path" and path == folder else path
    return None


def _folder(program: Path, real: Path, of: str) -> Path | None:
    if of == "named":
        return program.parent
    if of == "real":
        return real.parent
    return next((folder for folder in real.parents if str(folder).endswith(f"/{of}")), None)


_LARGEST_DIRECTORY = 16 * 1024 * 1024
"""Bytes of the list of an archive's files, which is read whole."""


def _directory_size(path: Path) -> int:
    """Return the size of the list at the end of a ZIP archive (APPNOTE.TXT §4.3.16); else that of the whole file."""
    size = path.stat().st_size
    with path.open("rb") as file:
        file.seek(max(0, size - 66_000))
        end = file.read(66_000)
    at = end.rfind(b"PK\5\6")
    told = int.from_bytes(end[at + 12 : at + 16], "little") if at >= 0 else size
    return size if told == 0xFFFFFFFF else told


def _text_inside(path: Path, name: str) -> str:
    """Return the text of a file in a ZIP archive (a JAR is one); nothing where there is no such file."""
    import zipfile

    try:
        if _directory_size(path) > _LARGEST_DIRECTORY:
            return ""
        with zipfile.ZipFile(path) as archive, archive.open(name) as file:
            return file.read(LARGEST_BYTES).decode("utf-8", "replace")
    except (OSError, KeyError, ValueError, RuntimeError, NotImplementedError, zipfile.BadZipFile):
        return ""
