"""Where a build put its program, where it is not where its Makefile seemed to say."""

from __future__ import annotations

import os
from collections.abc import Iterator
from itertools import islice
from pathlib import Path

import msgspec

from dokimon.core.planning.plan import RunPlan

_USUAL = ("src", "build", "bin", "out", "dist", "objs", "release", "Release", "build/src", "build/bin", "build/release")
_MOST_ENTRIES = 3000
_DEEPEST = 3
_MAGIC = (b"\x7fELF", b"\xcf\xfa\xed\xfe", b"\xca\xfe\xba\xbe", b"MZ")
"""How files of machine code begin: ELF, Mach-O, its fat form, PE."""


def built_elsewhere(program: Path, folder: Path) -> Path | None:
    """Return the file that a build of `folder` made in place of `program`: one of its name, or the only program there is."""
    named = (folder / place / program.name for place in _USUAL)
    found = next((path for path in named if _is_program(path)), None)
    if found:
        return found
    others = list(islice((path for path in _below(folder) if _is_program(path) and _is_machine_code(path)), 2))
    return others[0] if len(others) == 1 else None


def where_built(run: RunPlan) -> RunPlan:
    """Return a run whose program is not there with the file that was built in its place, where there is one."""
    if not isinstance(run.command, tuple) or "/" not in run.command[0]:
        return run
    program = run.folder / run.command[0]
    if program.exists() or not program.is_relative_to(run.folder):
        return run
    found = built_elsewhere(program, run.folder)
    return msgspec.structs.replace(run, command=(str(found), *run.command[1:])) if found else run


def _below(folder: Path) -> Iterator[Path]:
    places, left = [(folder, 0)], _MOST_ENTRIES
    while places and left > 0:
        place, depth = places.pop()
        try:
            entries = sorted(os.scandir(place), key=lambda each: each.name)
        except OSError:
            continue
        for entry in entries[:left]:
            left -= 1
            if entry.is_dir(follow_symlinks=False):
                if depth < _DEEPEST and not entry.name.startswith(".") and entry.name != "node_modules":
                    places.append((place / entry.name, depth + 1))
            else:
                yield place / entry.name


def _is_program(path: Path) -> bool:
    return path.is_file() and not path.is_symlink() and os.access(path, os.X_OK)


def _is_machine_code(path: Path) -> bool:
    if ".so" in path.suffixes or path.suffix in (".o", ".dll", ".dylib"):
        return False
    try:
        with path.open("rb") as file:
            return file.read(4).startswith(_MAGIC)
    except OSError:
        return False
