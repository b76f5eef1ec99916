"""Verdicts on tools: the copy that a command reaches, or why none is."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from dokimon.core.declarations.requirement import Requirement
from dokimon.core.judging.choosing import would_do
from dokimon.core.judging.comparing import held
from dokimon.core.judging.values import Judgement, Machine
from dokimon.core.machine.catalogue import Catalogue
from dokimon.core.machine.survey import Installation
from dokimon.core.machine.version_managers import given_by_shells
from dokimon.core.versions.constraint import Constraint


def judge_tool(tool: str, constraint: Constraint | None, machine: Machine) -> Judgement:
    """Compare the copy of `tool` that a command reaches with the constraint."""
    reached = machine.reached(tool)
    if not reached or reached.fault:
        return not_reached(tool, constraint, machine)
    if reached.version is None:
        if constraint is None:
            return Judgement(
                verdict="met", reason=f"it is there; its version is not known: {reached.reason}", copy=reached
            )
        reason = f"its version is not known: {reached.path} {reached.reason}"
        return Judgement(verdict="unknown", reason=reason, copy=reached)
    entry = machine.catalogue.find(tool)
    standing = entry.lines.standing(reached.version) if entry and entry.lines else None
    note = f"; {standing}" if standing else ""
    if constraint is None:
        reason = f"any version is accepted, and {reached.version} is there{note}"
        return Judgement(verdict="met", reason=reason, copy=reached)
    return held(constraint, reached.version, reached, note=note)


def not_reached(tool: str, constraint: Constraint | None, machine: Machine) -> Judgement:
    """Say why no command reaches the tool: it is broken, has another name, or is in another folder."""
    copies = machine.copies(tool)
    broken = next((copy for copy in copies if copy.fault and not copy.own), None)
    nearby = fitting_copy(tool, constraint, machine)
    if broken:
        also = f"; {nearby.version} is in {Path(nearby.program).parent}" if nearby else ""
        return Judgement(verdict="missing", reason=f"{broken.path} {broken.reason}{also}", copy=broken)
    shell = _given_by_shells(tool, machine)
    if nearby:
        return _nearby(nearby, shell)
    reason = f"no folder on PATH has {commands_of(tool, machine.catalogue)}{_elsewhere(copies)}"
    return Judgement(verdict="missing", reason=f"{reason}; {shell}" if shell else reason)


def _nearby(copy: Installation, shell: str | None) -> Judgement:
    version = copy.version or "it"
    if copy.other_name:
        reason = f"{version} is there, but only under the name {copy.other_name}"
        return Judgement(verdict="off-path", reason=reason, copy=copy)
    reason = f"{version} is in {Path(copy.path).parent}, which is not on PATH"
    return Judgement(verdict="off-path", reason=f"{reason} ({shell})" if shell else reason, copy=copy)


def _elsewhere(copies: Sequence[Installation]) -> str:
    """Say what is there all the same, and does not help: a copy of a wrong version, the project's own."""
    words = ""
    other = next((copy for copy in copies if copy.version and not copy.own), None)
    if other:
        words += f"; {other.version} is in {Path(other.path).parent}, and is not accepted"
    own = next((copy for copy in copies if copy.own), None)
    if own and own.checkout_named:
        words += (
            f"; {own.path}{f', {own.version},' if own.version else ''} is in a folder that only this checkout names"
        )
    elif own:
        version = f", {own.version}" if own.version else ""
        words += f"; the project has its own ({own.path}{version}), which only its own scripts reach"
    return words


def _given_by_shells(tool: str, machine: Machine) -> str | None:
    entry = machine.catalogue.find(tool)
    for command in entry.commands if entry else [tool]:
        if given := given_by_shells(command, machine.environment):
            return f"{given.file}:{given.line} {given.how}, in interactive shells only"
    return None


def commands_of(tool: str, catalogue: Catalogue) -> str:
    """Return the commands of a tool in words."""
    entry = catalogue.find(tool)
    return " or ".join(entry.commands) if entry and entry.commands else tool


def fitting_copy(tool: str, constraint: Constraint | None, machine: Machine) -> Installation | None:
    """Return the best copy that no command reaches and that this need and all required ones accept."""
    more = [constraint] if constraint else []
    return next(iter(would_do(tool, machine.installations, machine.needed, more)), None)


def fitting_copy_for(need: Requirement, machine: Machine) -> Installation | None:
    """Return the same for a requirement of a tool."""
    return fitting_copy(need.tool, need.constraint, machine)
