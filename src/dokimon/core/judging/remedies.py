"""What to do next, for each finding that is not met. Dokimon never does it itself."""

from __future__ import annotations

import re
import shlex
from pathlib import Path

from dokimon.core.declarations.requirement import ChoiceSubject, Requirement, any_version, requirement
from dokimon.core.declarations.subjects import (
    ComponentSubject,
    PathSubject,
    PlatformSubject,
    ServiceSubject,
    SizeSubject,
    ToolSubject,
    VariableSubject,
)
from dokimon.core.judging.choosing import accepted, spoils, would_do
from dokimon.core.judging.deciding import as_decided, java_home_decides
from dokimon.core.judging.installing import ways_to_install
from dokimon.core.judging.starting import to_start
from dokimon.core.judging.tool_verdicts import fitting_copy_for
from dokimon.core.judging.values import Judgement, Machine
from dokimon.core.machine.components import same_name
from dokimon.core.machine.shell import put_first, set_variable, shell_in_use
from dokimon.core.machine.survey import Installation
from dokimon.core.machine.version_managers import managers
from dokimon.core.report.model import Remedy
from dokimon.core.text import clean, nearest


def remedies(need: Requirement, judgement: Judgement, machine: Machine) -> tuple[Remedy, ...]:
    """Return what to do about a need that is not met: the nearest way first, with a command where there is one."""
    if need.fault:
        return (Remedy(say=f"correct {need.source.file}, line {need.source.line}"),)
    match need.subject:
        case ChoiceSubject(choices=choices):
            pairs = zip(choices, judgement.choices, strict=True)
            return tuple(step for each, one in pairs for step in remedies(each, one, machine)[:1])
        case ToolSubject() | ComponentSubject():
            return _for_tool(need, judgement, machine)
        case _:
            return _beside_tools(need, judgement, machine)


def _for_tool(need: Requirement, judgement: Judgement, machine: Machine) -> tuple[Remedy, ...]:
    repair = _for_fault(judgement.copy)
    reached = machine.reached(need.tool)
    # A shim without an answer has no version for this folder: installing one helps.
    if judgement.verdict == "unknown" and reached and not reached.shim:
        return repair or _for_unasked(need, machine) or _for_unknown(need, reached)
    reached = machine.reached(need.tool)
    there = _there(need, judgement, machine, repair=bool(repair))
    entry = machine.catalogue.find(need.tool)
    if entry is None:
        return (*repair, *there) or (Remedy(say=_for_uncatalogued(need.tool, machine)),)
    # The first that fits is the machine's own way; one more leaves a choice without a catalogue to read.
    if there:
        return (*repair, *there)
    ways = ways_to_install(need, entry, machine)
    # One route, and at most one other; what has no command to give is only said where nothing else is.
    ways = [way for way in ways if way.command][: 1 if repair else 2] or ways[:1]
    if entry.only_checkout and not ways:
        ways = [Remedy(say="install it, or put its folder on PATH: only this checkout names it")]
    if need.component and not ways:
        ways = [Remedy(say=f"use another {entry.title}: its {need.component} must be {clean(need.accepts)}")]
    return (*repair, *ways)


def _there(need: Requirement, judgement: Judgement, machine: Machine, *, repair: bool) -> list[Remedy]:
    """Return what helps without installing anything: a copy that is here, a variable that chooses a wrong one."""
    reached = machine.reached(need.tool)
    if java_home_decides(need, machine):
        there = _other_java_home(need, machine)
    elif isinstance(need.subject, ToolSubject) or reached is None:
        there = _already_here(need, machine)
    else:
        there = [*_rolled_forward(need, judgement), *_in_another_copy(need, reached, machine)]
    if reached and reached.shim and (named := re.match(r"the variable (\w+)", reached.chosen_by or "")):
        there = [_of_variable(named[1], machine), *there]
    copy = judgement.copy
    if not there and not repair and copy and copy.reached and judgement.verdict in ("missing", "unmet"):
        return _for_runtime(copy, need, machine)
    return there


def _for_uncatalogued(tool: str, machine: Machine) -> str:
    names = list(machine.catalogue.names())
    # A slip of the fingers, and no other tool of a similar name.
    like = nearest(tool, names, 0.75) or next((name for name in names if sorted(name) == sorted(tool)), None)
    meant = f'; or was "{like}" meant?' if like else ", or put its folder on PATH"
    return f"it is in no usual place either: install it{meant}"


def _beside_tools(need: Requirement, judgement: Judgement, machine: Machine) -> tuple[Remedy, ...]:
    source = need.source
    correct = f"correct {source.file}, line {source.line}"
    match need.subject:
        case VariableSubject(name=name):
            return (Remedy(say=f"set {clean(name)} in the environment", command=f"export {clean(name)}=…"),)
        case PathSubject(path=path):
            return (Remedy(say=f"put {clean(path)} in place, or {correct}"),)
        case SizeSubject(what=what):
            return (Remedy(say=f"free some {what}, or use a machine that has {clean(need.wanted)}"),)
        case PlatformSubject():
            return (Remedy(say=f"run the project on {clean(need.wanted)}"),)
        case ServiceSubject(name=name) if judgement.verdict == "unmet":
            return (Remedy(say=f"let {clean(name)}, {clean(need.accepts)}, listen there, or {correct}"),)
        case ServiceSubject() if judgement.verdict == "missing":
            return to_start(need, machine.environment, machine.root)
    return ()


def _for_fault(copy: Installation | None) -> tuple[Remedy, ...]:
    """Each reason why a file cannot be run has a remedy of its own."""
    if copy is None or copy.fault is None:
        return ()
    path = shlex.quote(copy.path)
    ways = {
        "dangling": Remedy(say="remove the link, or install again what it led to", command=f"rm {path}"),
        "no file": Remedy(say=f"move {copy.path} out of the way: it hides what may come after it on PATH"),
        "not executable": Remedy(say="make it executable", command=f"chmod +x {path}"),
        "no interpreter": Remedy(say=f"install the interpreter of {copy.path}, or reinstall the tool itself"),
        "other architecture": Remedy(say="install the tool built for this machine in its place"),
        "other system": Remedy(say="install the tool built for this system in its place"),
        "another tool": Remedy(say=f"put the folder of the tool itself before {Path(copy.path).parent} on PATH"),
        "line ends": Remedy(say="let its lines end as on this system", command=f"sed -i 's/\\r$//' {path}"),
        "no library": Remedy(say="install that library, or the tool anew from this system's packages"),
        "no loader": Remedy(say="install the tool built for this system's C library, or that library beside it"),
    }
    return (ways[copy.fault],) if copy.fault in ways else ()


def _for_unasked(need: Requirement, machine: Machine) -> tuple[Remedy, ...]:
    """A tool that only the checkout names is asked when the user says so."""
    entry = machine.catalogue.find(need.tool)
    if entry is None or not entry.only_checkout or not entry.ask.never:
        return ()
    asked = " ".join(f"--ask {shlex.quote(command)}" for command in entry.commands)
    say = f"if you trust {entry.commands[0]}, ask it for its version; a file in your own catalogue does so always"
    return (Remedy(say=say, command=f"dokimon verify {asked}"),)


def _for_unknown(need: Requirement, reached: Installation) -> tuple[Remedy, ...]:
    if reached.own:
        say = f"it is the project's own: let the project install it again, or take {reached.path} off PATH"
    elif need.component:
        say = f"check by hand whether {reached.path} has {clean(need.component, 80)}"
    else:
        say = f"run {reached.path} by hand and read what it says; is it completely installed?"
    return (Remedy(say=say),)


def _of_variable(name: str, machine: Machine) -> Remedy:
    value = clean(machine.environment.get(name, ""), 40)
    return Remedy(
        say=f"{name}={value} chooses the version: unset it, or set it to one that will do", command=f"unset {name}"
    )


def _other_java_home(need: Requirement, machine: Machine) -> list[Remedy]:
    """Where JAVA_HOME decides, another folder on PATH does not help: JAVA_HOME must name a JDK that would do."""
    constraints = [need.constraint] if need.constraint else []
    for copy in would_do(need.tool, as_decided(need, machine).installations, machine.needed, constraints):
        home = Path(copy.program).resolve().parent.parent
        if (home / "bin/javac").exists():  # a build needs a JDK, not a runtime
            line = set_variable("JAVA_HOME", str(home), shell_in_use(machine.environment))
            return [Remedy(say=f"{home} ({copy.version}) would do: let JAVA_HOME name it", command=line)]
    reached = machine.reached(need.tool)
    if reached and accepted(reached, constraints):
        return [Remedy(say="the copy that PATH reaches would do: unset JAVA_HOME", command="unset JAVA_HOME")]
    return []


def _for_runtime(copy: Installation, need: Requirement, machine: Machine) -> list[Remedy]:
    """A tool that would do lacks what it runs on: that is what to bring."""
    entry = machine.catalogue.find(copy.tool)
    if need.constraint and not accepted(copy, [need.constraint]):
        return []
    if copy.engines and (node := machine.reached("node")) and node.version:
        wanted = requirement("node", copy.engines, "npm", need.source)
        return list(_for_tool(wanted, Judgement(verdict="unmet", reason="", copy=node), machine))
    if entry and entry.runs_on:
        wanted = any_version(entry.runs_on, need.source)
        return list(_for_tool(wanted, Judgement(verdict="missing", reason=""), machine))
    return []


def _already_here(need: Requirement, machine: Machine) -> list[Remedy]:
    """A copy that would do and that no command reaches is the nearest remedy: choose it, or put its folder first."""
    copy = fitting_copy_for(need, machine)
    if copy is None:
        return _barred(need, machine)
    if copy.other_name:
        return [Remedy(say=f"{copy.path} ({copy.version}) would do: call it by that name")]
    line = put_first(
        [str(Path(copy.program).parent)], shell_in_use(machine.environment), machine.environment.get("HOME", "")
    )
    spoiled = spoils(copy, machine.installations, machine.needed)
    mind = f"; note that the {spoiled[0]} beside it would not do" if spoiled else ""
    manager = _manager_of(copy, machine)
    if manager:
        say = f"{manager} has {copy.version} already: choose it there, or put its folder first on PATH{mind}"
    else:
        where = "is not on PATH" if copy.off_path else "comes too late on PATH"
        say = f"{copy.path} ({copy.version}) would do, but its folder {where}; put it first{mind}"
    return [Remedy(say=say, command=line)]


def _in_another_copy(need: Requirement, reached: Installation, machine: Machine) -> list[Remedy]:
    """A copy that no command reaches may have the component: put its folder first."""
    copies = {copy.path: copy for copy in machine.copies(need.tool)}
    for each in machine.components:
        copy = copies.get(each.of or "")
        same = each.tool == need.tool and same_name(each.name) == same_name(need.component or "")
        if not same or copy is None or copy is reached or not each.version or not need.admits(each.version):
            continue
        folder = str(Path(copy.program).parent)
        line = put_first([folder], shell_in_use(machine.environment), machine.environment.get("HOME", ""))
        return [Remedy(say=f"{copy.path} has {each.version}: put its folder first on PATH", command=line)]
    return []


def _rolled_forward(need: Requirement, judgement: Judgement) -> list[Remedy]:
    """A program of .NET whose runtime is not here may start on a newer one that is."""
    found = judgement.found
    if need.language != "runtime-rollforward" or not found or not found.version or judgement.verdict != "unmet":
        return []
    if not need.constraint or need.constraint.side_of(found.version) < 1:
        return []
    say = f"let it start on {found.version}, which is here (RollForward in the project does so for good)"
    return [Remedy(say=say, command="export DOTNET_ROLL_FORWARD=Major")]


def _barred(need: Requirement, machine: Machine) -> list[Remedy]:
    """Advice may be met by a copy that other needs of the same tool do not accept: then say so."""
    if need.strength == "required":
        return []
    own = [need.constraint] if need.constraint else []
    copy = next(iter(would_do(need.tool, machine.installations, {}, own)), None)
    if copy is None:
        return []
    manager = _manager_of(copy, machine)
    there = f"{manager} has {copy.version} already" if manager else f"{copy.version} is there already"
    return [Remedy(say=f"{there}, but another need of {need.tool} does not accept it; call it as {copy.program}")]


def _manager_of(copy: Installation, machine: Machine) -> str | None:
    """Return the version manager whose folder holds a copy, or None."""
    for name, manager in managers().items():
        if any(Path(copy.program).is_relative_to(root) for root in manager.roots_here(machine.environment)):
            return name
    return None
