"""The first of Dokimon's two questions: what does the checkout need, and is this machine fit for it?"""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

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
from dokimon.core.declarations.from_settings import added_tools, read_needs
from dokimon.core.declarations.manifest import Manifest, ManifestFault, open_manifest
from dokimon.core.declarations.requirement import Requirement
from dokimon.core.judging import Machine, constraints_of, describe, judge
from dokimon.core.machine.asking import Asker
from dokimon.core.machine.cache import Cache
from dokimon.core.machine.catalogue import Catalogue, Tool
from dokimon.core.machine.platform import is_loopback, own_folder
from dokimon.core.machine.survey import Installation, Survey, Surveyor
from dokimon.core.report.model import FORMAT, Agreed, Conflict, Finding, Project, Remedy, Report
from dokimon.core.report.outcome import verdict_of_findings
from dokimon.core.settings import Fault, Settings, SettingsFault, read_settings
from dokimon.core.text import clean

if TYPE_CHECKING:
    from dokimon.core.machine.services import Greeting


class Declared(msgspec.Struct, frozen=True):
    """What `needs` knows: the checkout, its settings, its requirements, and what they come to together."""

    checkout: Checkout
    settings: Settings
    requirements: tuple[Requirement, ...]
    agreements: tuple[Agreement, ...]


class Verified(msgspec.Struct, frozen=True):
    """What `verify` knows, for `smoke` to go on with. `picked` are the folders that were put first on PATH for it."""

    declared: Declared
    findings: tuple[Finding, ...]
    survey: Survey
    notes: tuple[str, ...]
    environment: Mapping[str, str]
    picked: tuple[str, ...] = ()

    @property
    def installations(self) -> dict[str, list[Installation]]:
        """The copies that were found of each tool."""
        return self.survey.installations

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


def verify(start: Path, environment: Mapping[str, str], *, fresh: bool = False, pick: bool = False) -> Verified:
    """Read the checkout that holds the folder `start`, survey this machine and judge.

    With `fresh` no answer of an earlier survey counts; with `pick` satisfying copies are put first on PATH, and judged
    there. Raises `SettingsFault` and `CatalogueFault`.
    """
    verified = _held_against_machine(declare(start), environment, fresh)
    if not pick:
        return verified
    from dokimon.core.pathing import folders_first

    folders = folders_first(verified).folders
    if not folders:
        return verified
    chosen = {**environment, "PATH": os.pathsep.join([*folders, environment.get("PATH", "")])}
    again = _held_against_machine(verified.declared, chosen, fresh=False)
    return msgspec.structs.replace(again, picked=folders)


def _held_against_machine(declared: Declared, environment: Mapping[str, str], fresh: bool) -> Verified:
    checkout = declared.checkout
    catalogue = catalogue_for(declared.settings, environment)
    subjects = [each for need in declared.requirements for each in (need.alternatives or (need,))]
    tools = {each.tool for each in subjects if each.kind in ("tool", "component")}
    parts_of = {each.tool for each in subjects if each.kind == "component"}
    surveyor = surveyor_for(catalogue, checkout, checkout.project, environment, fresh=fresh)
    greetings = greetings_of(subjects, Asker(environment, checkout.root))
    survey = surveyor.survey(tools, parts_of)
    machine = Machine(
        survey.installations, environment, checkout.root, catalogue, survey.components, greetings,
        constraints_of(declared.requirements),
    )  # fmt: skip
    findings = _with_conflicts(judge(declared.requirements, machine), declared)
    entries = [entry for tool in sorted(tools) if (entry := catalogue.find(tool))]
    odd = notes_on_homes(entries, survey, environment)
    return Verified(declared, _with_what_works(findings), survey, tuple(odd), environment)


def notes_on_homes(tools: Iterable[Tool], survey: Survey, environment: Mapping[str, str]) -> list[str]:
    """Return what is odd about the variables that name the homes of these tools."""
    tools = [tool for tool in tools if any(environment.get(name) for name in tool.home_variables)]
    if not tools:
        return []
    from dokimon.core.machine.system import notes_on_variables

    return notes_on_variables(tools, survey.installations, environment)


def catalogue_for(settings: Settings, environment: Mapping[str, str]) -> Catalogue:
    """Return the catalogue with the tools of one's own folder, and with those that the project's settings add."""
    folder = own_folder("config", environment)
    return Catalogue(folder / "catalogue" if folder else None, added_tools(settings))


def surveyor_for(
    catalogue: Catalogue, checkout: Checkout, folder: Path, environment: Mapping[str, str], *, fresh: bool
) -> Surveyor:
    """Return what surveys this machine for `folder`, with the answers that are known from earlier surveys."""
    cache = Cache(own_folder("cache", environment), fresh=fresh)
    return Surveyor(catalogue, folder, checkout.root, environment, cache)


def greetings_of(subjects: Iterable[Requirement], asker: Asker) -> dict[tuple[str, str], Greeting]:
    """Return what answers at the addresses of services on this machine; another machine is never asked."""
    asked = []
    for each in subjects:
        host, _, port = (each.component or "").rpartition(":")
        if each.kind == "service" and (is_loopback(host) or host == "localhost"):
            asked.append((each.tool, each.component or "", host, int(port)))
    if not asked:
        return {}
    from concurrent.futures import ThreadPoolExecutor

    from dokimon.core.machine.services import greet

    with ThreadPoolExecutor(max_workers=8) as pool:
        told = pool.map(lambda one: greet(one[0], one[2], one[3], asker), asked)
        return {(name, where): greeting for (name, where, _, _), greeting in zip(asked, told, strict=True)}


def _with_what_works(findings: tuple[Finding, ...]) -> tuple[Finding, ...]:
    """Where a part of the checkout is for another platform, say which parts ask for none."""
    barred = {each.part for each in findings if each.kind == "platform" and each.verdict == "unmet"}
    if not barred:
        return findings
    rest = sorted({each.part or "the root" for each in findings if each.part not in barred})
    says = f"what asks for no other platform than this: {', '.join(rest)}" if rest else ""
    works = Remedy(says or "here its needs can be read and its tools looked for; it cannot be run")
    return tuple(
        msgspec.structs.replace(each, remedies=(*each.remedies, works))
        if each.kind == "platform" and each.verdict == "unmet"
        else each
        for each in findings
    )


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
        components=verified.survey.components,
        picked=verified.picked,
        conflicts=conflicts_of(declared),
        agreed=agreed_of(declared),
        notes=(*notes_of(declared), *verified.notes),
    )
