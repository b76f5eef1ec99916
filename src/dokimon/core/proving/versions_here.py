"""The copies of a tool that a project can be tried with, and how each is put first."""

from __future__ import annotations

import os
import re
from collections.abc import Iterable, Mapping
from pathlib import Path

from dokimon.core.machine.catalogue import Tool
from dokimon.core.machine.survey import Installation

MOST = 12
"""Each is a preparation from nothing and a start."""


def copies_to_try(copies: Iterable[Installation]) -> list[Installation]:
    """Return one copy of each version that is here and can be run, the oldest first; the one that is reached for its own."""
    found: dict[str, Installation] = {}
    for copy in sorted(copies, key=lambda each: not each.reached):
        if copy.version and not copy.fault and not copy.own and not copy.checkout_named and Path(copy.program).exists():
            found.setdefault(copy.version, copy)
    return sorted(found.values(), key=lambda copy: version_key(copy.version or ""))[-MOST:]


def version_key(version: str) -> tuple[list[int], bool, str]:
    """Return what versions are sorted by: their numbers, and a release after its pre-releases."""
    numbers = [int(number) for number in re.findall(r"\d+", re.split(r"[-+]|(?<=\d)[a-z]", version)[0])]
    return numbers, not re.search(r"[-a-z]", version), version


def put_first(copy: Installation, tool: Tool | None, environment: Mapping[str, str]) -> dict[str, str]:
    """Return the variables with which a command of the tool, and what belongs to it, is that of this copy.

    Where its folder has no command of the usual name (`python` beside `python3`), one of links in the home comes first.
    """
    program = Path(copy.program)
    # Behind a link of another name lies the folder that has all that belongs to the copy (Debian's alternatives).
    folder = program.parent if copy.off_path or copy.shim else Path(copy.path).parent
    real = program.resolve()
    first = [str(folder)]
    command = tool.commands[0] if tool and tool.commands else program.name
    if not (folder / command).exists() and (home := environment.get("HOME")):
        links = Path(home, "bin-of-copy")
        links.mkdir(exist_ok=True)
        (links / command).symlink_to(program)
        first.insert(0, str(links))
    changed = {**environment, "PATH": os.pathsep.join([*first, environment.get("PATH", "")])}
    place = real.parent.parent if real.parent.name == "bin" else real.parent
    for name in tool.home_variables if tool else ():
        changed[name] = str(place)
    if copy.tool == "go":
        changed["GOTOOLCHAIN"] = "local"  # else Go fetches the version that go.mod asks for
    return changed
