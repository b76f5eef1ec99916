"""Which folders to put first on PATH so that satisfying copies, already installed, are reached: `dokimon path`."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import msgspec

from dokimon.core.declarations.requirement import ChoiceSubject, Requirement
from dokimon.core.declarations.subjects import ToolSubject
from dokimon.core.judging.choosing import Copies, Needed, accepted, spoils, would_do
from dokimon.core.judging.values import constraints_of
from dokimon.core.machine.survey import Installation
from dokimon.core.versions.constraint import Constraint


class Route(msgspec.Struct, frozen=True):
    """`folders` to put first, in order; `without` says in sentences of which tools no copy can be put first, and why."""

    folders: tuple[str, ...]
    without: tuple[str, ...]


_Tools = list[tuple[str, list[Constraint]]]


def folders_first(requirements: Sequence[Requirement], copies: Copies) -> Route:
    """Return the folders of the best copy of each tool that all required declarations accept, where another is reached."""
    folders: dict[str, None] = {}
    without = []
    needed = constraints_of(requirements)
    required = [
        each
        for each in requirements
        if isinstance(each.subject, ToolSubject | ChoiceSubject) and each.strength == "required"
    ]
    for name, need in {each.tool: each for each in required}.items():
        # Of several choices each brings its own versions; those of any other need are in `needed` already.
        tools: _Tools = [
            (each.tool, [each.constraint] if each.constraint else [])
            for each in need.choices
            if isinstance(each.subject, ToolSubject)
        ]
        if not tools or _is_reached(tools, copies, needed):
            continue
        best = _best(tools, copies, needed)
        if best is None:
            without.append(f"no copy of {name} on this machine would do")
        elif spoiled := spoils(best, copies, needed):
            without.append(f"the folder of each copy of {name} that would do also has a {spoiled[0]} that would not")
        else:
            folders[str(Path(best.program).parent)] = None
    return Route(tuple(folders), tuple(without))


def _is_reached(tools: _Tools, copies: Copies, needed: Needed) -> bool:
    reached = [(copy, more) for tool, more in tools for copy in copies.get(tool, ()) if copy.reached]
    return any(accepted(copy, [*needed.get(copy.tool, ()), *more]) for copy, more in reached)


def _best(tools: _Tools, copies: Copies, needed: Needed) -> Installation | None:
    """Return the copy that would do and spoils the fewest other needs."""
    fitting = [copy for tool, more in tools for copy in would_do(tool, copies, needed, more) if not copy.other_name]
    return min(fitting, key=lambda copy: len(spoils(copy, copies, needed)), default=None)
