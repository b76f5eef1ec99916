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
    required = [each for each in requirements if each.kind == "tool" and each.strength == "required"]
    for name, choices in {each.tool: each.alternatives or (each,) for each in required}.items():
        # Of either-or needs each choice brings its own versions; any other need is one of `needed` itself.
        tools = [(each.tool, [each.constraint] if each.constraint else []) for each in choices if each.kind == "tool"]
        reached = [(copy, more) for tool, more in tools for copy in copies.get(tool, ()) if copy.reached]
        if any(accepted(copy, [*needed.get(copy.tool, ()), *more]) for copy, more in reached) or not tools:
            continue
        fitting = [copy for tool, more in tools for copy in would_do(tool, copies, needed, more) if not copy.other_name]
        best = min(fitting, key=lambda copy: len(spoils(copy, copies, needed)), default=None)
        if best is None:
            without.append(f"no copy of {name} on this machine would do")
        elif spoiled := spoils(best, copies, needed):
            without.append(f"beside each copy of {name} that would do lies a {spoiled[0]} that would not")
        else:
            folders[str(Path(best.program).parent)] = None
    return Route(tuple(folders), tuple(without))
