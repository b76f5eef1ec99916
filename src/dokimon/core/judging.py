"""Requirements held against the survey: findings and remedies."""

from __future__ import annotations

import shutil
from collections.abc import Mapping, Sequence
from pathlib import Path

import msgspec

from dokimon.core.declarations.requirement import Requirement
from dokimon.core.machine.catalogue import Remedy as Recipe
from dokimon.core.machine.catalogue import find_tool, known_tools
from dokimon.core.machine.platform import ARCHITECTURES, architecture_name, is_loopback, system_name
from dokimon.core.machine.shell import put_first, shell_in_use
from dokimon.core.machine.survey import Installation
from dokimon.core.report.model import Finding, FindingVerdict, Found, Remedy
from dokimon.core.text import clean, nearest
from dokimon.core.versions import VersionFault


class Machine(msgspec.Struct, frozen=True):
    """What judging may know of this machine: its installations by tool, its variables, how to look for more."""

    installations: Mapping[str, Sequence[Installation]]
    environment: Mapping[str, str]
    root: Path

    def has_command(self, command: str) -> bool:
        """Whether a command is on PATH, so that remedies can fit the machine."""
        return shutil.which(command, path=self.environment.get("PATH", "")) is not None


def describe(requirements: Sequence[Requirement]) -> tuple[Finding, ...]:
    """Return the requirements as findings that nothing was held against yet, in their order."""
    numbers: dict[str, int] = {}
    findings = []
    for each in requirements:
        subject = clean(each.subject, 120)
        numbers[subject] = numbers.get(subject, 0) + 1
        findings.append(
            Finding(
                id=f"{subject}#{numbers[subject]}",
                tool=clean(each.tool, 120) if each.component else subject,
                wanted=clean(each.wanted),
                accepts=clean(each.accepts),
                language=each.language,
                strength="advised" if each.strength == "advised" else "required",
                source=each.source,
                kind=each.kind,
                component=clean(each.component, 120) if each.component else None,
                part=None if each.part == "." else each.part,
                why=clean(each.why) if each.why else None,
                reason=clean(each.fault) if each.fault else None,
            )
        )
    return tuple(findings)


def judge(requirements: Sequence[Requirement], machine: Machine) -> tuple[Finding, ...]:
    """Return one finding for each requirement, in their order; a fact is only told."""
    judged = []
    for each, finding in zip(requirements, describe(requirements), strict=True):
        if each.kind == "fact":
            judged.append(finding)
            continue
        verdict, reason, copy = _verdict(each, machine)
        judged.append(
            msgspec.structs.replace(
                finding,
                verdict=verdict,
                reason=clean(reason),
                found=Found(copy.path, copy.version, copy.known_by) if copy else None,
                remedies=() if verdict == "met" else _remedies(each, verdict, machine),
            )
        )
    return tuple(judged)


def _verdict(requirement: Requirement, machine: Machine) -> tuple[FindingVerdict, str, Installation | None]:
    if requirement.fault:
        return "unknown", requirement.fault, None
    if requirement.alternatives:
        return _either(requirement, machine)
    if requirement.kind == "tool":
        return _of_tool(requirement, machine.installations.get(requirement.tool, ()))
    if requirement.kind == "variable":
        if machine.environment.get(requirement.tool):
            return "met", f"the environment has {requirement.tool}", None
        return "missing", f"the environment has no {requirement.tool}", None
    if requirement.kind == "path":
        path = machine.root / Path(requirement.tool).expanduser()
        return ("met", "it is there", None) if path.exists() else ("missing", f"there is no {path}", None)
    if requirement.kind == "platform":
        return _of_platform(requirement)
    if requirement.kind == "service":
        return _of_service(requirement)
    return "unknown", f"Dokimon does not look into {requirement.tool} for {requirement.component} yet", None


def _either(requirement: Requirement, machine: Machine) -> tuple[FindingVerdict, str, Installation | None]:
    """The first of the alternatives that is met counts; where none is, all of them are told."""
    told = [(each, *_verdict(each, machine)) for each in requirement.alternatives]
    for each, verdict, reason, copy in told:
        if verdict == "met":
            return "met", f"{each.tool}: {reason}", copy
    reasons = "; ".join(f"{each.tool}: {reason}" for each, _, reason, _ in told)
    verdicts = {verdict for _, verdict, _, _ in told}
    best: FindingVerdict = "unknown" if "unknown" in verdicts else "unmet" if "unmet" in verdicts else "missing"
    return best, reasons, None


def _of_platform(requirement: Requirement) -> tuple[FindingVerdict, str, Installation | None]:
    here = system_name() if requirement.tool == "system" else architecture_name()
    words = requirement.wanted.split()
    refused = [word[1:] for word in words if word.startswith("!")]
    accepted = [word for word in words if not word.startswith("!")]
    same = {here, *ARCHITECTURES.get(here, ())}
    fits = not same & set(refused) and (not accepted or "any" in accepted or bool(same & set(accepted)))
    return ("met" if fits else "unmet"), f"this machine's {requirement.tool} is {here}", None


def _of_service(requirement: Requirement) -> tuple[FindingVerdict, str, Installation | None]:
    """A service must listen; only this machine is asked (DESIGN: looking opens no connection beyond it)."""
    host, _, port = (requirement.component or "").rpartition(":")
    if not is_loopback(host) and host != "localhost":
        return "unknown", f"{host} is another machine, which is not asked", None
    import socket

    try:
        with socket.create_connection((host, int(port)), timeout=2):
            return "met", f"something listens on {host} port {port}", None
    except OSError:
        return "missing", f"nothing listens on {host} port {port}", None


def _of_tool(
    requirement: Requirement, copies: Sequence[Installation]
) -> tuple[FindingVerdict, str, Installation | None]:
    reached = next((copy for copy in copies if copy.reached), None)
    if requirement.fault:
        return "unknown", requirement.fault, reached
    if not reached:
        broken = next((copy for copy in copies if copy.reason), None)
        if broken:
            return "missing", f"{broken.path} {broken.reason}", broken
        nearby = _fitting(requirement, copies)
        if nearby:
            return "off-path", f"{nearby.version} lies in {Path(nearby.path).parent}, which is not on PATH", nearby
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


def _remedies(requirement: Requirement, verdict: FindingVerdict, machine: Machine) -> tuple[Remedy, ...]:
    copies = machine.installations.get(requirement.tool, ())
    if requirement.fault:
        source = requirement.source
        return (Remedy(f"mend {source.file}, line {source.line}"),)
    if requirement.alternatives:
        return tuple(remedy for each in requirement.alternatives for remedy in _remedies(each, verdict, machine)[:1])
    if requirement.kind != "tool":
        return _remedies_beside_tools(requirement)
    reached = next((copy for copy in copies if copy.reached), None)
    # A shim that tells nothing has no version for this folder: that is mended by installing one.
    if verdict == "unknown" and reached and not reached.shim:
        return (Remedy(f"see what it says when asked by hand; was {reached.path} installed whole?"),)
    found = _other_copy(requirement, copies, machine)
    entry = find_tool(requirement.tool)
    if entry is None:
        like = nearest(requirement.tool, list(known_tools()))
        return (
            *found,
            Remedy(f'install it; or was "{like}" meant?' if like else "install it, or see to its folder on PATH"),
        )
    fitting = [recipe for recipe in entry.remedy if _fits(recipe, requirement, machine)]
    # The first that fits is the machine's own way; one more leaves a choice without a catalogue to read.
    return (*found, *(_filled(recipe, requirement) for recipe in fitting[: 1 if found else 2]))


def _remedies_beside_tools(requirement: Requirement) -> tuple[Remedy, ...]:
    name = requirement.tool
    if requirement.kind == "variable":
        return (Remedy(f"set {clean(name)} in the environment", f"export {clean(name)}=…"),)
    if requirement.kind == "path":
        return (
            Remedy(f"put {clean(name)} in place, or mend {requirement.source.file}, line {requirement.source.line}"),
        )
    if requirement.kind == "platform":
        return (Remedy(f"run the project on {clean(requirement.wanted)}"),)
    if requirement.kind == "service":
        return (Remedy(f"start {clean(name)}"),)
    return ()


def _other_copy(requirement: Requirement, copies: Sequence[Installation], machine: Machine) -> list[Remedy]:
    """A copy that would do and that no command reaches is the nearest remedy: put its folder first."""
    copy = _fitting(requirement, copies)
    if copy is None:
        return []
    where = "is not on PATH" if copy.off_path else "comes too late on PATH"
    line = put_first([str(Path(copy.path).parent)], shell_in_use(machine.environment))
    return [Remedy(f"{copy.path} ({copy.version}) would do, but its folder {where}; put it first", line)]


def _fitting(requirement: Requirement, copies: Sequence[Installation]) -> Installation | None:
    """Return the first copy that no command reaches and whose version is accepted."""
    for copy in copies:
        if copy.reached or not copy.version:
            continue
        try:
            if requirement.constraint is None or requirement.constraint.admits(copy.version):
                return copy
        except VersionFault:
            continue
    return None


def _fits(recipe: Recipe, requirement: Requirement, machine: Machine) -> bool:
    if recipe.has and not machine.has_command(recipe.has):
        return False
    kind = "a-version" if requirement.constraint and requirement.constraint.lowest else "any-version"
    return recipe.only in (None, kind)


def _filled(recipe: Recipe, requirement: Requirement) -> Remedy:
    constraint = requirement.constraint
    lowest = constraint.lowest if constraint else None
    words = {
        "{wanted}": constraint.in_words if constraint else "any version",
        "{version}": lowest or "a version that will do",
        "{line}": lowest.split(".", 1)[0] if lowest else "a version that will do",
        "{pick}": (constraint.exact if constraint else None) or (lowest or "a version that will do").split(".", 1)[0],
    }

    def fill(text: str) -> str:
        for name, value in words.items():
            text = text.replace(name, value)
        return clean(text)

    command = fill(recipe.command) if recipe.command and (lowest or "{" not in recipe.command) else None
    return Remedy(fill(recipe.say), command)
