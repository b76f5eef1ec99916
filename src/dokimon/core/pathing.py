"""Which folders to put first on PATH so that satisfying copies, already installed, are reached: `dokimon path`."""

from __future__ import annotations

from pathlib import Path

import msgspec

from dokimon.core.choosing import accepted, spoils, would_do
from dokimon.core.judging import constraints_of
from dokimon.core.verifying import Verified


class Route(msgspec.Struct, frozen=True):
    """`folders` to put first, in order; `without` says in sentences of which tools no copy can be put first, and why."""

    folders: tuple[str, ...]
    without: tuple[str, ...]


def folders_first(verified: Verified) -> Route:
    """Return the folders of the best copy of each tool that all required declarations accept, where another is reached."""
    folders: dict[str, None] = {}
    without = []
    requirements, copies = verified.declared.requirements, verified.installations
    needed = constraints_of(requirements)
    required = dict.fromkeys(each.tool for each in requirements if each.kind == "tool" and each.strength == "required")
    for tool in required:
        reached = next((copy for copy in copies.get(tool, ()) if copy.reached), None)
        if reached and accepted(reached, needed.get(tool, ())):
            continue
        best = next((copy for copy in would_do(tool, copies, needed) if not copy.other_name), None)
        if best is None:
            without.append(f"no copy of {tool} on this machine would do")
        elif spoiled := spoils(best, copies, needed):
            without.append(f"beside each copy of {tool} that would do lies a {spoiled[0]} that would not")
        else:
            folders[str(Path(best.program).parent)] = None
    return Route(tuple(folders), tuple(without))
