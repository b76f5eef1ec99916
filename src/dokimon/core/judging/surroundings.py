"""Verdicts on what is not a tool: variables, paths, the platform, sizes, services."""

from __future__ import annotations

from pathlib import Path

from dokimon.core.declarations.subjects import (
    PathSubject,
    PlatformSubject,
    ServiceSubject,
    SizeSubject,
    VariableSubject,
)
from dokimon.core.judging.comparing import held
from dokimon.core.judging.values import Judgement, Machine
from dokimon.core.machine.platform import ARCHITECTURES, architecture_name, loopback_addresses, system_name
from dokimon.core.report.model import Found
from dokimon.core.versions.constraint import Constraint


def judge_variable(subject: VariableSubject, machine: Machine) -> Judgement:
    """Whether the variable is set, and not empty."""
    if machine.environment.get(subject.name):
        return Judgement(verdict="met", reason=f"the environment has {subject.name}")
    return Judgement(verdict="missing", reason=f"the environment has no {subject.name}")


def judge_path(subject: PathSubject, machine: Machine) -> Judgement:
    """Whether something is there."""
    path = machine.root / Path(subject.path).expanduser()
    if path.exists():
        return Judgement(verdict="met", reason="it is there")
    return Judgement(verdict="missing", reason=f"there is no {path}")


def judge_platform(subject: PlatformSubject) -> Judgement:
    """Whether this machine's system or architecture is one of those accepted, by any of its names."""
    here = system_name() if subject.axis == "system" else architecture_name()
    names = {here, *ARCHITECTURES.get(here, ())}
    accepted = not subject.accepted or "any" in subject.accepted or bool(names & set(subject.accepted))
    fits = accepted and not names & set(subject.refused)
    return Judgement(verdict="met" if fits else "unmet", reason=f"this machine's {subject.axis} is {here}")


def judge_size(subject: SizeSubject, machine: Machine) -> Judgement:
    """Whether this machine has enough memory, or free disk at the checkout."""
    from dokimon.core.machine.system import this_system

    system = this_system(machine.root)
    here = system.memory if subject.what == "memory" else system.disk_free
    free = " free" if subject.what == "disk" else ""
    reason = f"this machine has {here / 1e9:.1f} GB{free}"
    return Judgement(verdict="met" if here >= subject.least else "unmet", reason=reason)


def judge_service(subject: ServiceSubject, constraint: Constraint | None, machine: Machine) -> Judgement:
    """Compare what answered at the address with the product and the versions that are wanted."""
    greeting = machine.greetings.get(subject)
    place = f"{subject.host} port {subject.port}"
    if greeting is None and loopback_addresses(subject.host):
        return Judgement(verdict="unknown", reason=f"{place} was not asked: too many services are declared")
    if greeting is None:
        return Judgement(verdict="unknown", reason=f"{subject.host} is another machine, which is not asked")
    if not greeting.listens:
        return Judgement(verdict="missing", reason=f"nothing listens on {place}")
    what = f"{greeting.product or 'something'} {greeting.version or ''}".strip()
    found = Found(path=place, version=greeting.version, known_by="asked")
    if greeting.product and not _is_the_product(subject.name, greeting.product):
        reason = f"what listens on {place} is {what}, not {subject.name}"
        return Judgement(verdict="unmet", reason=reason, found=found)
    if greeting.product is None and subject.name.lower() != "http":
        return Judgement(verdict="unknown", reason=f"something listens on {place}, but {greeting.reason}", found=found)
    if constraint is None:
        return Judgement(verdict="met", reason=f"{what} listens on {place}", found=found)
    if greeting.version is None:
        reason = f"{what} listens on {place}; its version is not known: {greeting.reason}"
        return Judgement(verdict="unknown", reason=reason, found=found)
    return held(constraint, greeting.version, found=found)


def _is_the_product(wanted: str, product: str) -> bool:
    from dokimon.core.machine.service_protocols import is_the_product

    return is_the_product(wanted, product)
