"""Verdicts on components: those of the copy that a command reaches, and those that belong to no copy."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from dokimon.core.declarations.subjects import ComponentSubject
from dokimon.core.judging.comparing import held
from dokimon.core.judging.tool_verdicts import not_reached
from dokimon.core.judging.values import Judgement, Machine
from dokimon.core.machine.catalogue import Tool
from dokimon.core.machine.components import Component, same_name
from dokimon.core.machine.survey import Installation
from dokimon.core.report.model import Found
from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.orders.dotted import Key, parse


def judge_component(subject: ComponentSubject, constraint: Constraint | None, machine: Machine) -> Judgement:
    """Compare the component of the tool that is reached here with the constraint."""
    tool = subject.tool
    if subject.component == "toolchain":
        return _judge_toolchain(tool, constraint, machine)
    entry = machine.catalogue.find(tool)
    if entry is None or not (entry.part or entry.ask.facts):
        return Judgement(verdict="unknown", reason=f"Dokimon does not know where to find components of {tool}")
    reached = machine.reached(tool)
    if entry.commands and reached is None:
        return not_reached(tool, None, machine)
    path = reached.path if reached else None
    mine = [each for each in machine.components if each.tool == tool and each.of in (None, path)]
    there = [each for each in [*mine, *_facts_of(reached)] if same_name(each.name) == same_name(subject.component)]
    if not there:
        return _missing(subject, entry, mine, reached)
    return _best(constraint, there, path or "")


def _judge_toolchain(tool: str, constraint: Constraint | None, machine: Machine) -> Judgement:
    """Any copy will do that the build finds by itself, reached or not; the best that there is otherwise."""
    judged = [
        held(constraint, copy.version, copy)
        if constraint
        else Judgement(verdict="met", reason="it is there", copy=copy)
        for copy in machine.copies(tool)
        if copy.version and not copy.fault
    ]
    if met := next((each for each in judged if each.verdict == "met"), None):
        return met
    if not judged:
        return not_reached(tool, constraint, machine)
    others = ", ".join(dict.fromkeys(copy.version for copy in machine.copies(tool) if copy.version))
    wanted = constraint.in_words if constraint else "any version"
    return Judgement(verdict="missing", reason=f"no copy of {tool} here is {wanted}; there are {others}")


def _facts_of(copy: Installation | None) -> list[Component]:
    """What a copy reported about itself when asked for its version counts as components too."""
    if copy is None:
        return []
    known_by = copy.known_by or "asked"
    return [
        Component(tool=copy.tool, name=name, what="fact", version=value, known_by=known_by)
        for name, value in copy.facts.items()
    ]


def _best(constraint: Constraint | None, there: Sequence[Component], place: str) -> Judgement:
    """Of several side by side the one that the tool itself takes counts, else the newest that is accepted.

    Where none is, the newest counts, and the others are named.
    """
    ordered = sorted(there, key=_age, reverse=True)
    taken = (
        constraint.taken([each.version for each in ordered if each.version])
        if constraint and constraint.taken
        else None
    )
    ordered.sort(key=lambda each: each.version != taken)
    judged = [_judge_one(constraint, each, place) for each in ordered]
    for verdict in ("met", "unknown"):
        if best := next((each for each in judged if each.verdict == verdict), None):
            return best
    others = [each.version for each in ordered[1:] if each.version]
    also = f"; also there: {', '.join(others[:6])}" if others else ""
    return msgspec.structs.replace(judged[0], reason=judged[0].reason + also)


def _judge_one(constraint: Constraint | None, component: Component, place: str) -> Judgement:
    version = component.version
    found = Found(path=component.path or place, version=version, known_by=component.known_by)
    if constraint is None:
        reason = f"any version is accepted, and {version} is there" if version else "it is there"
        return Judgement(verdict="met", reason=reason, found=found)
    if version is None:
        return Judgement(verdict="unknown", reason="it is there, but its version is not known", found=found)
    return held(constraint, version, found=found)


def _age(component: Component) -> tuple[bool, Key]:
    """Sort by version; what is not a version comes first."""
    try:
        return True, parse(component.version or "0")
    except VersionFault:
        return False, parse("0")


def _missing(
    subject: ComponentSubject, entry: Tool, mine: Sequence[Component], reached: Installation | None
) -> Judgement:
    name = subject.component
    asked = {part.what for part in entry.part if part.ask and not part.otherwise}
    if reached and asked and not any(each.what in asked for each in mine):
        reason = f"{reached.path} did not list its components"
        return Judgement(verdict="unknown", reason=reason, copy=reached)
    if reached and reached.own:
        reason = f"{reached.path} is the project's own and is not run; no file mentions {name}"
        return Judgement(verdict="unknown", reason=reason, copy=reached)
    if subject.tool == "library":
        reason = f"no pkg-config file and no CMake package in the usual folders is called {name}"
        return Judgement(verdict="unknown", reason=f"{reason}; a build may find it otherwise")
    if not entry.commands and not mine:
        variables = " or ".join(entry.home_variables)
        hint = f"; {variables} names one" if variables else ""
        return Judgement(verdict="missing", reason=f"no {entry.title} was found{hint}")
    if reached and name == "sdk":
        runtimes = ", ".join(f"{each.name} {each.version}" for each in mine if each.version)
        only = f" (only {runtimes})" if runtimes else ""
        return Judgement(verdict="missing", reason=f"the host {reached.path} is there, but no SDK is{only}")
    return Judgement(verdict="missing", reason=f"{reached.path if reached else subject.tool} has no {name}")
