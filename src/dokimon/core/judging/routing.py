"""What to put first on PATH so that satisfying copies, already installed, are reached: `dokimon path`, `--pick`.

Folders of the system are never put first: all that they hold would come along, before an active virtual environment too.
A copy there, or one that only goes by another name (`python3.12`), is reached by a link in a folder of Dokimon's own.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import permutations
from pathlib import Path

import msgspec

from dokimon.core.declarations.requirement import ChoiceSubject, Requirement
from dokimon.core.declarations.subjects import ComponentSubject, ToolSubject
from dokimon.core.judging.choosing import Copies, Needed, accepted, would_do
from dokimon.core.judging.deciding import as_decided, java_home_decides
from dokimon.core.judging.values import Machine, constraints_of
from dokimon.core.machine.components import Component, same_name
from dokimon.core.machine.survey import Installation
from dokimon.core.versions.constraint import Constraint


class Route(msgspec.Struct, frozen=True, kw_only=True):
    """`folders` to put first, in order; before them a folder of `links` (a command and the program behind it).

    `variables` are to be set along. `tools` are those that are reached rightly then; `without` says in sentences of which
    tools no copy can be reached, and why.
    """

    folders: tuple[str, ...] = ()
    links: tuple[tuple[str, str], ...] = ()
    variables: tuple[tuple[str, str], ...] = ()
    tools: tuple[str, ...] = ()
    without: tuple[str, ...] = ()


_Tools = list[tuple[str, list[Constraint]]]

_OF_THE_SYSTEM = frozenset({
    "/bin", "/sbin", "/usr/bin", "/usr/sbin", "/usr/local/bin", "/usr/local/sbin", "/opt/homebrew/bin", "/opt/local/bin",
    "/home/linuxbrew/.linuxbrew/bin", "/snap/bin", "/usr/games",
})  # fmt: skip
_MOST_TO_ORDER = 5


def route_for(requirements: Sequence[Requirement], machine: Machine) -> Route:
    """Return how to reach the best copy of each tool that all required declarations accept, where another is reached."""
    chosen: dict[str, Installation] = {}
    without = []
    copies, needed = machine.installations, constraints_of(requirements)
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
        elif hidden := _hidden_by_environment(best, machine):
            without.append(hidden)
        else:
            chosen[best.tool] = best
    for tool in dict.fromkeys(each.tool for each in requirements if isinstance(each.subject, ComponentSubject)):
        if tool not in chosen and (copy := _with_all_parts(tool, requirements, machine)):
            chosen[tool] = copy
    folders, links = _laid_out(chosen, machine, needed)
    variables = _variables(required, chosen, machine)
    return Route(folders=folders, links=links, variables=variables, tools=tuple(chosen), without=tuple(without))


def _with_all_parts(tool: str, requirements: Sequence[Requirement], machine: Machine) -> Installation | None:
    """Return the copy that has all components which are required, where the one that is reached has not, and one does.

    Copies of which several versions lie side by side (the SDKs of .NET) are known by these alone.
    """
    needs = [each for each in requirements if each.tool == tool and each.component and each.strength == "required"]

    def has_all(copy: Installation) -> bool:
        mine = [each for each in machine.components if each.tool == tool and each.of in (None, copy.path)]
        return all(any(_is_met_by(need, each) for each in mine) for need in needs)

    reached = machine.reached(tool)
    if reached is None or not needs or has_all(reached):
        return None
    return next((copy for copy in machine.copies(tool) if copy is not reached and has_all(copy)), None)


def _is_met_by(need: Requirement, component: Component) -> bool:
    if same_name(component.name) != same_name(need.component or ""):
        return False
    return need.constraint is None or bool(component.version and need.admits(component.version))


def _is_reached(tools: _Tools, copies: Copies, needed: Needed) -> bool:
    reached = [(copy, more) for tool, more in tools for copy in copies.get(tool, ()) if copy.reached]
    return any(accepted(copy, [*needed.get(copy.tool, ()), *more]) for copy, more in reached)


def _best(tools: _Tools, copies: Copies, needed: Needed) -> Installation | None:
    """Return the copy that would do; one whose folder can be put first before one that only a link reaches."""
    fitting = [copy for tool, more in tools for copy in would_do(tool, copies, needed, more)]
    return min(fitting, key=lambda copy: (copy.other_name is not None, not _may_come_first(copy)), default=None)


def _may_come_first(copy: Installation) -> bool:
    return copy.other_name is None and _folder(copy) not in _OF_THE_SYSTEM


def _folder(copy: Installation) -> str:
    return str(Path(copy.program).parent)


def _hidden_by_environment(copy: Installation, machine: Machine) -> str | None:
    """An active virtual environment is the user's choice: it is not bypassed, but said."""
    active, reached = machine.environment.get("VIRTUAL_ENV"), machine.reached(copy.tool)
    if not active or reached is None or not Path(reached.path).is_relative_to(active):
        return None
    would = f"{copy.program} ({copy.version}) would do for {copy.tool}"
    return f"{would}, but the virtual environment {active} is active: deactivate it first"


def _laid_out(
    chosen: Mapping[str, Installation], machine: Machine, needed: Needed
) -> tuple[tuple[str, ...], tuple[tuple[str, str], ...]]:
    """Return the folders in an order that reaches every tool rightly where there is one, and links for the rest."""
    natural = list(dict.fromkeys(_folder(copy) for copy in chosen.values() if _may_come_first(copy)))
    orders = permutations(natural) if len(natural) <= _MOST_TO_ORDER else [tuple(natural)]
    best = min(orders, key=lambda order: len(_spoilt(order, chosen, machine, needed)))
    linked = [copy for copy in chosen.values() if not _may_come_first(copy)]
    for tool in _spoilt(best, chosen, machine, needed):
        if tool not in {copy.tool for copy in linked} and (copy := _right_copy(tool, chosen, machine, needed)):
            linked.append(copy)
    links = {name: program for copy in linked for name, program in _links_to(copy, machine)}
    return best, tuple(sorted(links.items()))


def _spoilt(order: Sequence[str], chosen: Mapping[str, Installation], machine: Machine, needed: Needed) -> list[str]:
    """Return the tools of which a wrong copy would be reached with these folders first."""
    return [
        tool
        for tool in {*needed, *chosen}
        if (first := _first_in(order, machine.copies(tool)))
        and not accepted(first, needed.get(tool, ()))
        and (tool in chosen or machine.reached(tool))
    ]


def _first_in(order: Sequence[str], copies: Sequence[Installation]) -> Installation | None:
    return next((copy for folder in order for copy in copies if _folder(copy) == folder and not copy.other_name), None)


def _right_copy(tool: str, chosen: Mapping[str, Installation], machine: Machine, needed: Needed) -> Installation | None:
    reached = machine.reached(tool)
    if tool in chosen or (reached and accepted(reached, needed.get(tool, ()))):
        return chosen.get(tool, reached)
    return next(iter(would_do(tool, machine.installations, needed)), None)


def _links_to(copy: Installation, machine: Machine) -> list[tuple[str, str]]:
    """Return the commands of a copy with the programs behind them: those that lie beside it, else all of them itself."""
    entry = machine.catalogue.find(copy.tool)
    commands = entry.commands if entry else [copy.tool]
    if copy.other_name:
        return [(command, copy.path) for command in commands]
    folder = Path(copy.program).parent
    links = {command: str(folder / command) for command in commands if (folder / command).exists()}
    # On many systems `python3` has no `python` beside it.
    return list({commands[0]: copy.program, **links}.items()) if commands else []


def _variables(
    required: Sequence[Requirement], chosen: Mapping[str, Installation], machine: Machine
) -> tuple[tuple[str, str], ...]:
    """JAVA_HOME follows the JDK that is put first; where it decides alone, it is set to one that would do."""
    for tool in ("javac", "java"):
        if tool in chosen:
            return (("JAVA_HOME", _java_home(chosen[tool])),)
    for need in required:
        if not java_home_decides(need, machine):
            continue
        here = as_decided(need, machine)
        constraints = [need.constraint] if need.constraint else []
        reached = here.reached(need.tool)
        if reached and accepted(reached, constraints):
            continue
        fitting = [copy for copy in here.copies(need.tool) if not copy.own and accepted(copy, constraints)]
        if fitting:
            return (("JAVA_HOME", _java_home(fitting[0])),)
    return ()


def _java_home(copy: Installation) -> str:
    return str(Path(copy.program).resolve().parent.parent)
