"""The copies of a tool that a project can be tried with, what is declared and not here, and how a copy is put first."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path

from dokimon.core.declarations.requirement import requirement
from dokimon.core.judging.installing import ways_to_install
from dokimon.core.judging.values import Machine
from dokimon.core.machine.catalogue import Tool, is_of_line
from dokimon.core.machine.survey import Installation
from dokimon.core.report.model import NotTried
from dokimon.core.source import Source
from dokimon.core.text import clean
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.orders import dotted
from dokimon.core.versions.sets import VersionSet

MOST = 12
"""Each is a preparation from nothing and a start."""

_MOST_NOT_TRIED = 4


def copies_to_try(copies: Iterable[Installation], accepted: VersionSet | None = None) -> list[Installation]:
    """Return one copy of each version that is here and can be run, the oldest first; the one that is reached for its own.

    Where some versions are `accepted` (over the dotted order), these, and the nearest beyond each of their ends.
    """
    found: dict[str, Installation] = {}
    for copy in sorted(copies, key=lambda each: not each.reached):
        if copy.version and not copy.fault and not copy.own and not copy.checkout_named and Path(copy.program).exists():
            found.setdefault(copy.version, copy)
    ordered = sorted(found.values(), key=lambda copy: version_key(copy.version or ""))
    return (_near(ordered, accepted) if accepted else ordered)[-MOST:]


def _near(ordered: Sequence[Installation], accepted: VersionSet) -> list[Installation]:
    inside = [is_in(copy.version or "", accepted) for copy in ordered]
    if True not in inside:
        return list(ordered)
    beside = [any(inside[max(index - 1, 0) : index + 2]) for index in range(len(ordered))]
    return [copy for copy, near in zip(ordered, beside, strict=True) if near]


def is_in(version: str, versions: VersionSet) -> bool:
    """Whether a set over the dotted order has a version; one that cannot be read is in none."""
    try:
        return dotted.DOTTED.key(version) in versions
    except VersionFault:
        return False


def version_key(version: str) -> tuple[bool, object]:
    """Return what versions are sorted by: the plain dotted order, and what has no place in it first."""
    try:
        return True, dotted.DOTTED.key(version)
    except VersionFault:
        return False, version


def not_here(
    tool: Tool, accepted: VersionSet, copies: Sequence[Installation], machine: Machine
) -> tuple[NotTried, ...]:
    """Return what is declared and what no copy has: the lower end, and each maintained line; with how one is got."""
    maintained = tool.lines.maintained if tool.lines else []
    every = [*maintained, *(tool.lines.ended if tool.lines else ())]
    here = {_line(copy.version or "", every) for copy in copies}
    low = accepted.intervals[0].low if accepted else None
    wanted = {_line(low.label, every): low.label} if low and not low.rank and low.label else {}
    for line in maintained:
        if is_in(f"{line}.9999", accepted) or is_in(line, accepted):
            wanted.setdefault(line, line)
    found = []
    for line, version in sorted(wanted.items(), key=lambda each: version_key(each[1])):
        if line not in here:
            need = requirement(tool.name, version, "plain", Source("", 0, ""))
            remedies = tuple(ways_to_install(need, tool, machine)[:1])
            found.append(NotTried(tool=tool.name, version=clean(version, 40), line=clean(line, 40), remedies=remedies))
    return tuple(found[-_MOST_NOT_TRIED:])


def _line(version: str, lines: Iterable[str]) -> str:
    """Return the line of releases of a version; where none is known, its first two numbers."""
    near = [line for line in lines if is_of_line(version, line)]
    return max(near, key=len, default=".".join(version.split(".")[:2]))


def all_put_first(
    copies: Sequence[Installation], tools: Mapping[str, Tool], environment: Mapping[str, str]
) -> dict[str, str]:
    """Return the variables with which the commands of these copies' tools are theirs.

    A folder that has commands of the other tools too (`/usr/bin`) comes after theirs.
    """

    def has_others(copy: Installation) -> int:
        commands = [
            name
            for each in copies
            if each.tool != copy.tool and (tool := tools.get(each.tool))
            for name in tool.commands
        ]
        return sum((Path(copy.path).parent / name).exists() for name in commands)

    changed = dict(environment)
    for copy in sorted(copies, key=has_others, reverse=True):
        changed = put_first(copy, tools.get(copy.tool), changed)
    return changed


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
