"""The first of Dokimon's two questions: what does the checkout need, and is this machine fit for it?"""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import msgspec

from dokimon.core.agreement import (
    Agreement,
    agreements,
    contradiction_in_words,
    drift_in_words,
    drifts,
)
from dokimon.core.declarations import read_declarations
from dokimon.core.declarations.checkout import SETTINGS_FILE, Checkout, find_checkout
from dokimon.core.declarations.from_settings import read_needs
from dokimon.core.declarations.manifest import Manifest, ManifestFault, open_manifest
from dokimon.core.declarations.requirement import Requirement
from dokimon.core.judging import Machine, describe, judge
from dokimon.core.machine.survey import Installation, survey
from dokimon.core.report.model import FORMAT, Agreed, Conflict, Finding, Project, Remedy, Report
from dokimon.core.report.outcome import verdict_of_findings
from dokimon.core.settings import Fault, Settings, SettingsFault, read_settings
from dokimon.core.text import clean


class Declared(msgspec.Struct, frozen=True):
    """What `needs` knows: the checkout, its settings, its requirements, and what they come to together."""

    checkout: Checkout
    settings: Settings
    requirements: tuple[Requirement, ...]
    agreements: tuple[Agreement, ...]


class Verified(msgspec.Struct, frozen=True):
    """What `verify` knows, for `smoke` to go on with."""

    declared: Declared
    findings: tuple[Finding, ...]
    installations: dict[str, list[Installation]]

    @property
    def checkout(self) -> Checkout:
        """The checkout that was verified."""
        return self.declared.checkout

    @property
    def settings(self) -> Settings:
        """The settings of the checkout."""
        return self.declared.settings


def declare(start: Path) -> Declared:
    """Read the checkout that holds the folder `start`. Raises `SettingsFault` when its `dokimon.toml` cannot be used."""
    checkout = find_checkout(start)
    settings, manifest = load_settings(checkout)
    needs = read_needs(settings, manifest) if manifest else []
    requirements = (*read_declarations(checkout), *needs)
    return Declared(checkout, settings, requirements, tuple(agreements(requirements)))


def verify(start: Path, environment: Mapping[str, str]) -> Verified:
    """Read the checkout that holds the folder `start`, survey this machine and judge; raises `SettingsFault`."""
    declared = declare(start)
    checkout = declared.checkout
    subjects = [each for need in declared.requirements for each in (need.alternatives or (need,))]
    tools = {each.tool for each in subjects if each.kind == "tool"}
    installations = survey(tools, checkout.project, checkout.root, environment)
    findings = judge(declared.requirements, Machine(installations, environment, checkout.root))
    return Verified(declared, _with_conflicts(findings, declared), installations)


def _with_conflicts(findings: tuple[Finding, ...], declared: Declared) -> tuple[Finding, ...]:
    """Give the verdict `conflict` to the findings of declarations that cannot all be true, where they are not met."""
    contradicting = {index: a for a in declared.agreements for index in a.between}
    return tuple(
        msgspec.structs.replace(
            finding,
            verdict="conflict",
            reason=f"{finding.reason}. {contradiction_in_words(declared.requirements, contradicting[index])}",
            remedies=(Remedy(f"make {' and '.join(_places(declared, contradicting[index]))} agree"),),
        )
        if index in contradicting and finding.verdict != "met"
        else finding
        for index, finding in enumerate(findings)
    )


def _places(declared: Declared, agreement: Agreement) -> list[str]:
    sources = [declared.requirements[index].source for index in agreement.between]
    return [f"{source.file}:{source.line}" for source in sources]


def load_settings(checkout: Checkout) -> tuple[Settings, Manifest | None]:
    """Return the settings of the checkout and the file they stand in; empty ones and None without a `dokimon.toml`."""
    path = checkout.root / SETTINGS_FILE
    if not path.exists() and not path.is_symlink():
        return Settings(), None
    try:
        manifest = open_manifest(path, checkout.root)
        return read_settings(manifest), manifest
    except ManifestFault as wrong:
        raise SettingsFault(SETTINGS_FILE, [Fault(wrong.line, wrong.reason)]) from None


def project_of(declared: Declared) -> Project:
    """Return the project as the report names it."""
    checkout = declared.checkout
    below = checkout.project.relative_to(checkout.root).as_posix()
    name = declared.settings.project.name or checkout.project.name or str(checkout.root)
    return Project(clean(str(checkout.root)), clean(name, 80), None if below == "." else clean(below))


def conflicts_of(declared: Declared) -> tuple[Conflict, ...]:
    """Return the contradictions among the declarations as the report names them."""
    contradicting = [each for each in declared.agreements if each.between]
    ids = [finding.id for finding in describe(declared.requirements)] if contradicting else []
    return tuple(
        Conflict(
            clean(each.subject, 120),
            tuple(ids[index] for index in each.between),
            clean(contradiction_in_words(declared.requirements, each)),
        )
        for each in contradicting
    )


def agreed_of(declared: Declared) -> tuple[Agreed, ...]:
    """Return what the declarations of each subject come to, where they do not contradict each other."""
    return tuple(
        Agreed(clean(each.subject, 120), str(each.versions), each.lowest, each.newest)
        for each in declared.agreements
        if each.versions
    )


def notes_of(declared: Declared) -> tuple[str, ...]:
    """Return the advice that has drifted from what is declared, in words."""
    found = drifts(declared.requirements, declared.agreements)
    return tuple(clean(drift_in_words(declared.requirements, each)) for each in found)


def needs_report(declared: Declared) -> Report:
    """Return the report of `dokimon needs`: `unmet` where declarations contradict each other, whatever the machine has."""
    findings = describe(declared.requirements)
    unread = any(each.fault and each.strength == "required" for each in declared.requirements)
    conflicts = conflicts_of(declared)
    return Report(
        format=FORMAT,
        command="needs",
        verdict="unmet" if conflicts else "unknown" if unread else "met",
        project=project_of(declared),
        requirements=findings,
        conflicts=conflicts,
        agreed=agreed_of(declared),
        notes=notes_of(declared),
    )


def verify_report(verified: Verified, strict: bool) -> Report:
    """Return the report of `dokimon verify`."""
    declared = verified.declared
    return Report(
        format=FORMAT,
        command="verify",
        verdict=verdict_of_findings(verified.findings, strict),
        project=project_of(declared),
        requirements=verified.findings,
        installations=tuple(copy for copies in verified.installations.values() for copy in copies),
        conflicts=conflicts_of(declared),
        agreed=agreed_of(declared),
        notes=notes_of(declared),
    )
