"""Finding the copies of a tool that PATH reaches."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import msgspec

from dokimon.core.machine.catalogue import Tool
from dokimon.core.machine.platform import identity, is_program, path_folders, program_names
from dokimon.core.machine.shims import manager_of


class Copy(msgspec.Struct, frozen=True):
    """One copy of a tool: its path as PATH names it, the file behind the links, and how it is reached.

    `reached` says whether its command, typed in this folder, starts this copy. `shim_of` names the version manager
    whose shim it is. `in_checkout` copies are the project's own and are never run. `fault` says why it cannot be run.
    """

    command: str
    path: Path
    real: Path
    reached: bool
    shim_of: str | None = None
    in_checkout: bool = False
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
    return sorted(found, key=lambda copy: not copy.reached)


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
