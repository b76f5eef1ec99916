"""`dokimon verify`: what the checkout declares, compared with what this machine has."""

from __future__ import annotations

import os
from collections.abc import Collection, Iterable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from dokimon.core.at_once import at_once
from dokimon.core.declarations.checkout import Checkout
from dokimon.core.declarations.requirement import Requirement
from dokimon.core.declarations.subjects import ComponentSubject, ServiceSubject, ToolSubject
from dokimon.core.jobs.needs import Declared, agreed_of, conflicts_of, declare, notes_of, projects_of
from dokimon.core.jobs.workspace import Workspace, notes_on_homes, outside, surveyor_for
from dokimon.core.judging.findings import judge
from dokimon.core.judging.routing import route_for
from dokimon.core.judging.scopes import Scopes
from dokimon.core.judging.values import Machine, constraints_of
from dokimon.core.machine.asking import Asker
from dokimon.core.machine.links import folder_of_links
from dokimon.core.machine.once import Once
from dokimon.core.machine.own_environment import without_own
from dokimon.core.machine.platform import loopback_addresses, own_folder
from dokimon.core.machine.survey import Installation, Survey
from dokimon.core.proving.supposing import Supposition, in_words, read_suppositions, supposed, without_remedies
from dokimon.core.report.model import FORMAT, FORMAT_MINOR, Finding, Report
from dokimon.core.report.outcome import verdict_of_findings

if TYPE_CHECKING:
    from dokimon.core.machine.service_protocols import Greeting


class Verified(msgspec.Struct, frozen=True, kw_only=True):
    """What `verify` knows, for `smoke` to go on with.

    `picked` are the folders that were put first on PATH for it, `variables` those that were set along. `suppositions` say
    which versions were only supposed.
    """

    declared: Declared
    findings: tuple[Finding, ...]
    survey: Survey
    notes: tuple[str, ...]
    environment: Mapping[str, str]
    machine: Machine
    picked: tuple[str, ...] = ()
    variables: Mapping[str, str] = {}
    suppositions: tuple[str, ...] = ()

    @property
    def installations(self) -> dict[str, list[Installation]]:
        """The copies that were found of each tool."""
        return self.survey.installations

    @property
    def checkout(self) -> Checkout:
        """The checkout that was verified."""
        return self.declared.checkout

    @property
    def workspace(self) -> Workspace:
        """The checkout with its settings and catalogue."""
        return self.declared.workspace


def verify(
    start: Path,
    environment: Mapping[str, str],
    *,
    fresh: bool = False,
    pick: bool = False,
    may_ask: Collection[str] = (),
    suppose: Sequence[str] = (),
    once: Once | None = None,
) -> Verified:
    """Read the checkout that holds the folder `start`, survey this machine and judge.

    With `fresh` no answer of an earlier survey counts; with `pick` satisfying copies are put first on PATH, and judged
    there. `may_ask` are commands that only the checkout names and that are asked all the same. It is judged as if the
    versions that `suppose` names were reached (`node=22.11.0`, `php=none`). `once` is shared by all checkouts that are
    verified in one call, with the same environment. Raises `SettingsFault`, `CatalogueFault` and `SuppositionFault`.
    """
    declared = declare(start, environment, may_ask)
    environment = without_own(environment, declared.checkout.root)
    suppositions = read_suppositions(suppose, declared.workspace.catalogue)
    verified = _held_against_machine(declared, environment, fresh, suppositions, once)
    if not pick or suppositions:
        return verified
    way = way_of(verified)
    if not way.folders and not way.variables:
        return verified
    return msgspec.structs.replace(way.verified, picked=way.folders, variables=dict(way.variables))


class Way(msgspec.Struct, frozen=True, kw_only=True):
    """The folders to put first, one of links among them where it takes one, and variables to set along.

    `verified` is the checkout held against the machine with them; `without` says in sentences what cannot be reached.
    """

    verified: Verified
    folders: tuple[str, ...] = ()
    variables: tuple[tuple[str, str], ...] = ()
    without: tuple[str, ...] = ()

    def environment(self, environment: Mapping[str, str]) -> dict[str, str]:
        """Return the environment that has been changed so."""
        path = os.pathsep.join([*self.folders, environment.get("PATH", "")])
        return {**environment, **dict(self.variables), "PATH": path}


def way_of(verified: Verified) -> Way:
    """Return how to reach copies that would do, held against the machine once more: what it does not mend is said."""
    declared, environment = verified.declared, verified.environment
    route = route_for(declared.requirements, verified.machine)
    cache = outside(own_folder("cache", environment), declared.checkout)
    links = folder_of_links(route.links, cache) if route.links else None
    folders = (*((str(links),) if links else ()), *route.folders)
    without = list(route.without)
    if route.links and links is None:
        without.append(f"{', '.join(name for name, _ in route.links)}: there is no folder for links to it")
    way = Way(verified=verified, folders=folders, variables=route.variables, without=tuple(without))
    if not way.folders and not way.variables:
        return way
    again = _held_against_machine(declared, way.environment(environment), fresh=False)
    before = {each.id: each.verdict for each in verified.findings}
    wrong = [each for each in again.findings if each.verdict != "met" and each.strength == "required"]
    unexpected = [each for each in wrong if before.get(each.id) == "met" or each.tool in route.tools]
    told = dict.fromkeys(f"{each.tool}: {each.reason}" for each in unexpected)
    return msgspec.structs.replace(way, verified=again, without=(*way.without, *told))


def _held_against_machine(
    declared: Declared,
    environment: Mapping[str, str],
    fresh: bool,
    suppositions: Sequence[Supposition] = (),
    once: Once | None = None,
) -> Verified:
    checkout, catalogue = declared.checkout, declared.workspace.catalogue
    needs = [each for need in declared.requirements for each in need.choices]
    parts_of = {each.tool for each in needs if isinstance(each.subject, ComponentSubject)}
    tools = {each.tool for each in needs if isinstance(each.subject, ToolSubject)} | parts_of
    tools |= {on for each in tools if (entry := catalogue.find(each)) and (on := entry.runs_on)}
    surveyor = surveyor_for(declared.workspace, checkout.project, environment, fresh=fresh, once=once)
    greetings = _greetings_of(needs, Asker(environment, checkout.untrusted))
    survey = surveyor.survey(tools, parts_of)
    survey = msgspec.structs.replace(survey, installations=supposed(survey.installations, suppositions))
    machine = Machine(
        installations=survey.installations,
        environment=environment,
        root=checkout.root,
        catalogue=catalogue,
        components=survey.components,
        greetings=greetings,
        needed=constraints_of(declared.requirements),
    )
    machines = [machine] * len(declared.requirements)
    if not suppositions:  # what is supposed is reached in every folder
        machines = _seen_from_each(declared, machine, environment, fresh, once)
    entries = [entry for tool in sorted(tools) if (entry := catalogue.find(tool))]
    findings = judge(declared.requirements, declared.agreements, machines)
    return Verified(
        declared=declared,
        findings=without_remedies(findings) if suppositions else findings,
        survey=survey,
        notes=tuple(notes_on_homes(entries, survey, environment)),
        environment=environment,
        machine=machine,
        suppositions=in_words(survey.installations, suppositions),
    )


def _seen_from_each(
    declared: Declared, machine: Machine, environment: Mapping[str, str], fresh: bool, once: Once | None
) -> list[Machine]:
    """Return for each requirement the machine as a command in its folder meets it.

    A shim answers by the folder, and where folders need different versions, no remedy for one has to serve another.
    """
    requirements, checkout = declared.requirements, declared.checkout
    apart = any(each.places for each in declared.agreements)
    by_folder = {tool for tool, copies in machine.installations.items() if any(each.shim for each in copies)}
    if not apart and not by_folder:
        return [machine] * len(requirements)
    scopes = Scopes(requirements)
    known: dict[str, Machine] = {}
    shimmed = {scopes.place(index) for index, each in enumerate(requirements) if each.tool in by_folder}
    for place in dict.fromkeys(scopes.place(index) for index in range(len(requirements))):
        here = machine
        if apart:
            mine = [need for other, need in enumerate(requirements) if scopes.governs(other, place)]
            here = msgspec.structs.replace(machine, needed=constraints_of(mine))
        folder = checkout.root / place
        if folder != checkout.project and place in shimmed and folder.is_dir():
            surveyor = surveyor_for(declared.workspace, folder, environment, fresh=fresh, once=once)
            there = surveyor.survey(by_folder)
            here = msgspec.structs.replace(here, installations={**machine.installations, **there.installations})
        known[place] = here
    return [known[scopes.place(index)] for index in range(len(requirements))]


_MOST_SERVICES = 64
"""Each may take a few seconds; no project has as many. What is beyond is not known."""


def _greetings_of(needs: Iterable[Requirement], asker: Asker) -> dict[ServiceSubject, Greeting]:
    """Return what answers at the addresses of services on this machine; another machine is never asked."""
    services = [
        subject
        for each in needs
        if isinstance(subject := each.subject, ServiceSubject) and loopback_addresses(subject.host)
    ]
    if not services:
        return {}
    asked = list(dict.fromkeys(services))[:_MOST_SERVICES]
    from dokimon.core.machine.services import greet

    answers = at_once(lambda subject: greet(subject.name, subject.host, subject.port, asker), asked, 8)
    return dict(zip(asked, answers, strict=True))


def verify_report(verified: Verified, strict: bool, *, allow_none: bool = False) -> Report:
    """Return the report of `dokimon verify`. Where nothing is declared nothing is known, unless one would `allow_none`."""
    declared = verified.declared
    is_nothing = not any(each.verdict for each in verified.findings) and not projects_of(declared)
    return Report(
        format=FORMAT,
        minor=FORMAT_MINOR,
        command="verify",
        verdict="unknown" if is_nothing and not allow_none else verdict_of_findings(verified.findings, strict),
        strict=strict,
        project=declared.workspace.project,
        projects_below=projects_of(declared),
        requirements=verified.findings,
        installations=tuple(copy for copies in verified.installations.values() for copy in copies),
        components=verified.survey.components,
        picked=verified.picked,
        picked_variables=dict(verified.variables),
        supposed=verified.suppositions,
        conflicts=conflicts_of(declared),
        agreed=agreed_of(declared),
        notes=(*notes_of(declared), *verified.notes),
    )
