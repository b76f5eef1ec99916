"""Requirements held against the survey: findings."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from dokimon.core.choosing import would_do
from dokimon.core.declarations.requirement import Requirement
from dokimon.core.machine.catalogue import Catalogue
from dokimon.core.machine.components import Component, same_name
from dokimon.core.machine.platform import ARCHITECTURES, architecture_name, system_name
from dokimon.core.machine.survey import Installation
from dokimon.core.report.model import Finding, FindingVerdict, Found
from dokimon.core.text import clean
from dokimon.core.versions import Constraint, VersionFault
from dokimon.core.versions.orders.dotted import Key, parse

if TYPE_CHECKING:
    from dokimon.core.machine.services import Greeting


class Machine(msgspec.Struct, frozen=True):
    """What judging may know of this machine: what was found on it, its variables, and the catalogue.

    `greetings` holds what answered to a service's name at an address; `needed` the constraints that all required needs
    put on a tool, so that advice never points to a copy that breaks one of them.
    """

    installations: Mapping[str, Sequence[Installation]]
    environment: Mapping[str, str]
    root: Path
    catalogue: Catalogue = Catalogue()
    components: Sequence[Component] = ()
    greetings: Mapping[tuple[str, str], Greeting] = {}
    needed: Mapping[str, Sequence[Constraint]] = {}

    def copies(self, tool: str) -> Sequence[Installation]:
        """Return the copies of a tool."""
        return self.installations.get(tool, ())

    def reached(self, tool: str) -> Installation | None:
        """Return the copy that a command reaches."""
        return next((copy for copy in self.copies(tool) if copy.reached), None)


class Judged(msgspec.Struct, frozen=True):
    """What came of one requirement: the verdict, the reason in words, the copy or the component that it speaks of."""

    verdict: FindingVerdict
    reason: str
    copy: Installation | None = None
    found: Found | None = None


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
    from dokimon.core.remedies import remedies

    judged = []
    for each, finding in zip(requirements, describe(requirements), strict=True):
        if each.kind == "fact":
            judged.append(finding)
            continue
        made = verdict_on(each, machine)
        copy = made.copy
        judged.append(
            msgspec.structs.replace(
                finding,
                verdict=made.verdict,
                reason=clean(made.reason),
                found=made.found or (Found(copy.path, copy.version, copy.known_by) if copy else None),
                remedies=() if made.verdict == "met" else remedies(each, made, machine),
            )
        )
    return tuple(judged)


def verdict_on(requirement: Requirement, machine: Machine) -> Judged:
    """Hold one requirement against the machine."""
    if requirement.fault:
        return Judged("unknown", requirement.fault)
    if requirement.alternatives:
        return _either(requirement, machine)
    if requirement.kind == "tool":
        return _of_tool(requirement, machine)
    if requirement.kind == "variable":
        if machine.environment.get(requirement.tool):
            return Judged("met", f"the environment has {requirement.tool}")
        return Judged("missing", f"the environment has no {requirement.tool}")
    if requirement.kind == "path":
        path = machine.root / Path(requirement.tool).expanduser()
        return Judged("met", "it is there") if path.exists() else Judged("missing", f"there is no {path}")
    if requirement.kind == "platform":
        return _of_platform(requirement, machine)
    if requirement.kind == "service":
        return _of_service(requirement, machine)
    return _of_component(requirement, machine)


def _either(requirement: Requirement, machine: Machine) -> Judged:
    """The first of the alternatives that is met counts; where none is, all of them are told."""
    told = [(each, verdict_on(each, machine)) for each in requirement.alternatives]
    for each, made in told:
        if made.verdict == "met":
            return msgspec.structs.replace(made, reason=f"{each.tool}: {made.reason}")
    reasons = "; ".join(f"{each.tool}: {made.reason}" for each, made in told)
    verdicts = {made.verdict for _, made in told}
    best: FindingVerdict = "unknown" if "unknown" in verdicts else "unmet" if "unmet" in verdicts else "missing"
    return Judged(best, reasons)


def _of_size(requirement: Requirement, machine: Machine) -> Judged:
    from dokimon.core.machine.system import this_system
    from dokimon.core.measures import bytes_of

    system = this_system(machine.root)
    here = system.memory if requirement.tool == "memory" else system.disk_free
    free = " free" if requirement.tool == "disk" else ""
    enough = here >= bytes_of(requirement.wanted.removeprefix("at least "))
    return Judged("met" if enough else "unmet", f"this machine has {here / 1e9:.1f} GB{free}")


def _of_platform(requirement: Requirement, machine: Machine) -> Judged:
    if requirement.tool in ("memory", "disk"):
        return _of_size(requirement, machine)
    here = system_name() if requirement.tool == "system" else architecture_name()
    words = requirement.wanted.split()
    refused = [word[1:] for word in words if word.startswith("!")]
    accepted = [word for word in words if not word.startswith("!")]
    same = {here, *ARCHITECTURES.get(here, ())}
    fits = not same & set(refused) and (not accepted or "any" in accepted or bool(same & set(accepted)))
    return Judged("met" if fits else "unmet", f"this machine's {requirement.tool} is {here}")


def _of_service(requirement: Requirement, machine: Machine) -> Judged:
    where = requirement.component or ""
    host, _, port = where.rpartition(":")
    greeting = machine.greetings.get((requirement.tool, where))
    if greeting is None:
        return Judged("unknown", f"{host} is another machine, which is not asked")
    place = f"{host} port {port}"
    if not greeting.listens:
        return Judged("missing", f"nothing listens on {place}")
    told = f"{greeting.product or 'something'} {greeting.version or ''}".strip()
    found = Found(place, greeting.version, "asked")
    if greeting.product and _another_product(requirement.tool, greeting.product):
        return Judged("unmet", f"what listens on {place} is {told}, not {requirement.tool}", found=found)
    if requirement.constraint is None:
        return Judged("met", f"{told} listens on {place}", found=found)
    if greeting.version is None:
        return Judged("unknown", f"{told} listens on {place}; its version is not known: {greeting.reason}", found=found)
    return _held(requirement.constraint, greeting.version, found=found)


def _another_product(wanted: str, product: str) -> bool:
    """Databases that speak one protocol are told apart; behind HTTP anything may stand."""
    from dokimon.core.machine.services import is_the_product

    return wanted.lower() in ("mysql", "mariadb", "redis", "valkey") and not is_the_product(wanted, product)


def _held(
    constraint: Constraint, version: str, copy: Installation | None = None, found: Found | None = None, note: str = ""
) -> Judged:
    """Hold a version against a constraint; `note` is added to a reason that accepts it."""
    try:
        if constraint.admits(version):
            return Judged("met", f"{version} is accepted{note}", copy, found)
        side = constraint.side_of(version)
    except VersionFault as wrong:
        return Judged("unknown", f"the version that was found cannot be compared: {wrong}", copy, found)
    words = {-1: "too old", 0: "left out", 1: "too new"}
    return Judged("unmet", f"{version} is {words[side]}; accepted: {constraint.in_words}", copy, found)


def _of_tool(requirement: Requirement, machine: Machine) -> Judged:
    tool, copies = requirement.tool, machine.copies(requirement.tool)
    reached = machine.reached(tool)
    if not reached:
        return _not_reached(requirement, machine, copies)
    if reached.fault:
        return _not_reached(requirement, machine, copies)
    if reached.version is None:
        if requirement.constraint is None:
            return Judged("met", f"it is there; its version is not known: {reached.reason}", reached)
        return Judged("unknown", f"its version is not known: {reached.path} {reached.reason}", reached)
    entry = machine.catalogue.find(tool)
    standing = entry.lines.standing(reached.version) if entry and entry.lines else None
    note = f"; {standing}" if standing else ""
    if requirement.constraint is None:
        return Judged("met", f"any version will do; {reached.version} is there{note}", reached)
    return _held(requirement.constraint, reached.version, reached, note=note)


def _not_reached(requirement: Requirement, machine: Machine, copies: Sequence[Installation]) -> Judged:
    """Not found is a question: there and broken, there under another name or elsewhere, for interactive shells alone."""
    tool = requirement.tool
    broken = next((copy for copy in copies if copy.fault and not copy.own), None)
    nearby = fitting_copy(requirement, machine)
    if broken:
        also = f"; {nearby.version} lies in {Path(nearby.program).parent}" if nearby else ""
        return Judged("missing", f"{broken.path} {broken.reason}{also}", broken)
    shell = _given_by_shells(tool, machine)
    if nearby and nearby.other_name:
        return Judged(
            "off-path", f"{nearby.version or 'it'} is there, but only by the name {nearby.other_name}", nearby
        )
    if nearby:
        where = f"{nearby.version or 'it'} lies in {Path(nearby.path).parent}, which is not on PATH"
        return Judged("off-path", f"{where}{f' ({shell})' if shell else ''}", nearby)
    elsewhere = next((copy for copy in copies if copy.version and not copy.own), None)
    reason = f"no folder on PATH holds {commands_of(tool, machine.catalogue)}"
    if elsewhere:
        reason += f"; {elsewhere.version} lies in {Path(elsewhere.path).parent}, and is not accepted"
    own = next((copy for copy in copies if copy.own), None)
    if own:
        version = f", {own.version}" if own.version else ""
        reason += f"; the project has its own ({own.path}{version}), which only its own scripts reach"
    return Judged("missing", f"{reason}; {shell}" if shell else reason)


def _given_by_shells(tool: str, machine: Machine) -> str | None:
    from dokimon.core.machine.version_managers import given_by_shells

    entry = machine.catalogue.find(tool)
    for command in entry.commands if entry else [tool]:
        if given := given_by_shells(command, machine.environment):
            return f"{given.file}:{given.line} {given.how}, in interactive shells only"
    return None


def commands_of(tool: str, catalogue: Catalogue) -> str:
    """Return the commands of a tool in words."""
    entry = catalogue.find(tool)
    return " or ".join(entry.commands) if entry and entry.commands else tool


def fitting_copy(requirement: Requirement, machine: Machine) -> Installation | None:
    """Return the best copy that no command reaches and that this need and all required ones accept."""
    more = [requirement.constraint] if requirement.constraint else []
    return next(iter(would_do(requirement.tool, machine.installations, machine.needed, more)), None)


def _of_component(requirement: Requirement, machine: Machine) -> Judged:
    """The components of the copy that a command reaches, and those that belong to no copy."""
    name, tool = requirement.component or "", requirement.tool
    entry = machine.catalogue.find(tool)
    if entry is None or not (entry.part or entry.ask.facts):
        return Judged("unknown", f"Dokimon does not know where components of {tool} are")
    reached = machine.reached(tool)
    if entry.commands and reached is None:
        return _not_reached(msgspec.structs.replace(requirement, constraint=None), machine, machine.copies(tool))
    mine = [
        each
        for each in machine.components
        if each.tool == tool and each.of in (None, reached.path if reached else None)
    ]
    facts = reached.facts if reached else {}
    there = [each for each in mine if same_name(each.name) == same_name(name)]
    there += [
        Component(tool, fact, "fact", value, known_by=(reached.known_by if reached else None) or "asked")
        for fact, value in facts.items()
        if same_name(fact) == same_name(name)
    ]
    if not there:
        return _component_missing(requirement, machine, mine, reached)
    return _best(requirement, there, reached)


def _best(requirement: Requirement, there: Sequence[Component], reached: Installation | None) -> Judged:
    """Side by side the newest that is accepted counts; where none is, the newest is told with the others."""
    place = reached.path if reached else ""

    def held(each: Component) -> Judged:
        found = Found(each.path or place, each.version, each.known_by)
        if requirement.constraint is None:
            shown = f"any version will do; {each.version} is there" if each.version else "it is there"
            return Judged("met", shown, found=found)
        if each.version is None:
            return Judged("unknown", "it is there, but nothing tells its version", found=found)
        return _held(requirement.constraint, each.version, found=found)

    ordered = sorted(there, key=_age, reverse=True)
    judged = [held(each) for each in ordered]
    for verdict in ("met", "unknown"):
        if made := next((each for each in judged if each.verdict == verdict), None):
            return made
    others = [each.version for each in ordered[1:] if each.version]
    also = f"; also there: {', '.join(others[:6])}" if others else ""
    return msgspec.structs.replace(judged[0], reason=judged[0].reason + also)


def _age(component: Component) -> tuple[bool, Key]:
    """Sort by version; what is no version comes first."""
    try:
        return True, parse(component.version or "0")
    except VersionFault:
        return False, parse("0")


def _component_missing(
    requirement: Requirement, machine: Machine, mine: Sequence[Component], reached: Installation | None
) -> Judged:
    tool, name = requirement.tool, requirement.component or ""
    entry = machine.catalogue.find(tool)
    asked = {part.what for part in entry.part if part.ask} if entry else set()
    if reached and asked and not any(each.what in asked for each in mine):
        return Judged("unknown", f"{reached.path} did not tell which components it has", reached)
    if reached and reached.own:
        return Judged(
            "unknown", f"{reached.path} is the project's own and is not run; no file tells of {name}", reached
        )
    if tool == "library":
        reason = f"no pkg-config file and no CMake package in the usual folders is called {name}"
        return Judged("unknown", f"{reason}; a build may find it otherwise")
    if entry and not entry.commands and not mine:
        variables = " or ".join(entry.home_variables)
        return Judged("missing", f"no {entry.title} was found{f'; {variables} names one' if variables else ''}")
    if reached and name == "sdk":
        runtimes = ", ".join(f"{each.name} {each.version}" for each in mine if each.version)
        only = f" (only {runtimes})" if runtimes else ""
        return Judged("missing", f"the host {reached.path} is there, but no SDK is{only}")
    return Judged("missing", f"{reached.path if reached else tool} has no {name}")


def constraints_of(requirements: Iterable[Requirement]) -> dict[str, list[Constraint]]:
    """Return, by tool, the constraints of all required needs of the tool itself."""
    found: dict[str, list[Constraint]] = {}
    for each in requirements:
        if each.kind == "tool" and each.strength == "required" and each.constraint:
            found.setdefault(each.tool, []).append(each.constraint)
    return found
