"""Finding the copies of a tool that PATH reaches."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from pathlib import Path

import msgspec

from dokimon.core.machine.catalogue import Tool
from dokimon.core.machine.platform import identity, is_program, path_folders, program_names
from dokimon.core.machine.shims import manager_of


class Copy(msgspec.Struct, frozen=True):
    """One copy of a tool: its path as PATH names it, the file behind the links, and how it is reached.

    `reached` says whether its command, typed in this folder, starts this copy; an `off_path` copy lies in a usual home of
    its tool that PATH does not name. `shim_of` names the version manager
    whose shim it is. `in_checkout` copies are the project's own and are never run. `fault` says why it cannot be run.
    """

    command: str
    path: Path
    real: Path
    reached: bool
    shim_of: str | None = None
    in_checkout: bool = False
    off_path: bool = False
    fault: str | None = None


def copies_on_path(tool: Tool, environment: Mapping[str, str], folder: Path, checkout: Path) -> list[Copy]:
    """Return every copy of `tool` on PATH, the one that a command reaches first in front, the same file once.

    `folder` is where the question is asked, `checkout` the root of the checkout; both absolute.
    """
    found: list[Copy] = []
    seen: set[object] = set()
    for command in tool.commands:
        reached = not any(copy.reached for copy in found)
        for place, absolute in path_folders(environment, folder):
            for name in program_names(command):
                path = place / name
                if not (path.is_symlink() or path.exists()):
                    continue
                copy = _copy(command, path, absolute, checkout, reached=reached)
                # `python` and `python3` are two shims of one manager, and answer alike.
                same = (place, copy.shim_of) if copy.shim_of else identity(copy.real)
                if same in seen:
                    continue
                seen.add(same)
                found.append(copy)
                reached = reached and copy.fault is not None
    found.sort(key=lambda copy: not copy.reached)
    return [*found, *_copies_off_path(tool, environment, checkout, seen)]


def _copies_off_path(tool: Tool, environment: Mapping[str, str], checkout: Path, seen: set[object]) -> Iterator[Copy]:
    """Yield the copies in the usual homes of the tool that were not `seen` on PATH, in the order of the homes."""
    for home in tool.homes:
        for folder in _folders_of(home, environment):
            for command in tool.commands:
                for name in program_names(command):
                    path = folder / name
                    if not is_program(path):
                        continue
                    copy = _copy(command, path, True, checkout, reached=False)
                    if identity(copy.real) not in seen and not copy.shim_of:
                        seen.add(identity(copy.real))
                        yield msgspec.structs.replace(copy, off_path=True)


def _folders_of(home: str, environment: Mapping[str, str]) -> list[Path]:
    """Return the folders that a home of the catalogue stands for here; none when it names a variable that is not set."""
    if home.startswith("~"):
        home = environment.get("HOME", "/nonexistent") + home[1:]
    for name in re.findall(r"\$(\w+)", home):
        if not environment.get(name, "").startswith("/"):
            return []
        home = home.replace(f"${name}", environment[name])
    fixed, star, pattern = home.partition("*")
    base, _, first = fixed.rpartition("/")
    if not star:
        return [Path(home)]
    return sorted(Path(base or "/").glob(first + star + pattern), key=_newest_first, reverse=True)


def _newest_first(folder: Path) -> list[tuple[int, str]]:
    """Sort the numbers in a path as numbers, so that the folder of 3.10 comes before that of 3.9 in falling order."""
    return [(int(part), "") if part.isdigit() else (-1, part) for part in re.split(r"(\d+)", str(folder))]


def _copy(command: str, path: Path, absolute: bool, checkout: Path, *, reached: bool) -> Copy:
    try:
        real = path.resolve(strict=True)
    except (OSError, RuntimeError):
        return Copy(command, path, path, False, fault="is a link that leads nowhere")
    if not real.is_file():
        return Copy(command, path, real, False, fault="is not a file")
    if not is_program(path):
        return Copy(command, path, real, False, fault="is there but not executable")
    own = not absolute or any(place.is_relative_to(checkout) for place in (path, real))
    return Copy(command, path, real, reached, manager_of(path, real), own)
