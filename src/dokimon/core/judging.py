"""Requirements held against the survey: findings and remedies."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

from dokimon.core.declarations.requirement import Requirement
from dokimon.core.machine.catalogue import Remedy as Recipe
from dokimon.core.machine.catalogue import find_tool, known_tools
from dokimon.core.machine.survey import Installation
from dokimon.core.report.model import Finding, FindingVerdict, Found, Remedy
from dokimon.core.text import clean, nearest
from dokimon.core.versions import VersionFault

HasCommand = Callable[[str], bool]


def judge(
    requirements: Sequence[Requirement],
    installations: Mapping[str, Sequence[Installation]],
    has_command: HasCommand,
) -> tuple[Finding, ...]:
    """Return one finding for each requirement, in their order.

    `has_command` tells whether a command is on this machine's PATH, so that remedies can fit the machine.
    """
    numbers: dict[str, int] = {}
    findings = []
    for requirement in requirements:
        numbers[requirement.tool] = numbers.get(requirement.tool, 0) + 1
        copies = installations.get(requirement.tool, ())
        verdict, reason, copy = _verdict(requirement, copies)
        findings.append(
            Finding(
                id=f"{requirement.tool}#{numbers[requirement.tool]}",
                tool=clean(requirement.tool, 80),
                wanted=clean(requirement.wanted),
                accepts=_accepts(requirement),
                language=requirement.language,
                strength="advised" if requirement.strength == "advised" else "required",
                source=requirement.source,
                verdict=verdict,
                reason=clean(reason),
                why=clean(requirement.why) if requirement.why else None,
                found=Found(copy.path, copy.version, copy.known_by) if copy else None,
                remedies=() if verdict == "met" else _remedies(requirement, verdict, copies, has_command),
            )
        )
    return tuple(findings)


def _accepts(requirement: Requirement) -> str:
    if requirement.constraint:
        return requirement.constraint.in_words
    return "not known" if requirement.fault else "any version"


def _verdict(
    requirement: Requirement, copies: Sequence[Installation]
) -> tuple[FindingVerdict, str, Installation | None]:
    reached = next((copy for copy in copies if copy.reached), None)
    if requirement.fault:
        return "unknown", requirement.fault, reached
    if not reached:
        broken = next((copy for copy in copies if copy.reason), None)
        if broken:
            return "missing", f"{broken.path} {broken.reason}", broken
        return "missing", f"no folder on PATH holds {_commands(requirement.tool)}", None
    if reached.version is None:
        if requirement.constraint is None:
            return "met", f"it is there; its version is not known: {reached.reason}", reached
        return "unknown", f"its version is not known: {reached.path} {reached.reason}", reached
    if requirement.constraint is None:
        return "met", f"any version will do; {reached.version} is there", reached
    try:
        if requirement.constraint.admits(reached.version):
            return "met", f"{reached.version} is accepted", reached
        side = requirement.constraint.side_of(reached.version)
    except VersionFault as wrong:
        return "unknown", f"the version that was found cannot be compared: {wrong}", reached
    words = {-1: "too old", 0: "left out", 1: "too new"}
    return (
        "unmet",
        f"{reached.version} is {words[side]}; accepted: {requirement.constraint.in_words}",
        reached,
    )


def _commands(tool: str) -> str:
    entry = find_tool(tool)
    return " or ".join(entry.commands) if entry else tool


def _remedies(
    requirement: Requirement, verdict: FindingVerdict, copies: Sequence[Installation], has_command: HasCommand
) -> tuple[Remedy, ...]:
    if requirement.fault:
        source = requirement.source
        return (Remedy(f"mend {source.file}, line {source.line}"),)
    reached = next((copy for copy in copies if copy.reached), None)
    if (
        verdict == "unknown" and reached and not reached.shim
    ):  # a shim that tells nothing has no version for this folder
        return (Remedy(f"see what it says when asked by hand; was {reached.path} installed whole?"),)
    found = [*_other_copy(requirement, copies)]
    entry = find_tool(requirement.tool)
    if entry is None:
        like = nearest(requirement.tool, list(known_tools()))
        return (
            *found,
            Remedy(f'install it; or was "{like}" meant?' if like else "install it, or see to its folder on PATH"),
        )
    fitting = [recipe for recipe in entry.remedy if _fits(recipe, requirement, has_command)]
    # The first that fits is the machine's own way; one more leaves a choice without a catalogue to read.
    return (*found, *(_filled(recipe, requirement) for recipe in fitting[: 1 if found else 2]))


def _other_copy(requirement: Requirement, copies: Sequence[Installation]) -> list[Remedy]:
    """A copy further along PATH that would do is the nearest remedy: put its folder first."""
    for copy in copies:
        if copy.reached or not copy.version or not requirement.constraint:
            continue
        try:
            fits = requirement.constraint.admits(copy.version)
        except VersionFault:
            continue
        if fits:
            folder = Path(copy.path).parent
            return [
                Remedy(
                    f"{copy.path} ({copy.version}) would do; put its folder first on PATH",
                    f'export PATH="{folder}{os.pathsep}$PATH"',
                )
            ]
    return []


def _fits(recipe: Recipe, requirement: Requirement, has_command: HasCommand) -> bool:
    if recipe.has and not has_command(recipe.has):
        return False
    kind = "a-version" if requirement.constraint and requirement.constraint.lowest else "any-version"
    return recipe.only in (None, kind)


def _filled(recipe: Recipe, requirement: Requirement) -> Remedy:
    constraint = requirement.constraint
    lowest = (constraint.lowest if constraint else None) or "a current version"
    words = {
        "{wanted}": constraint.in_words if constraint else "any version",
        "{version}": lowest,
        "{line}": lowest.split(".", 1)[0],
    }

    def fill(text: str) -> str:
        for name, value in words.items():
            text = text.replace(name, value)
        return clean(text)

    command = fill(recipe.command) if recipe.command and (constraint or "{" not in recipe.command) else None
    return Remedy(fill(recipe.say), command)
