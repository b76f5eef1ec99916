"""`dokimon smoke --across TOOL`: the project under every version of a tool that is here, each in a clone of its own."""

from __future__ import annotations

import threading
from collections.abc import Mapping
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path

import msgspec

from dokimon.core.declarations.revision import revision_of
from dokimon.core.faults import Fault
from dokimon.core.jobs.clone import smoke_clone
from dokimon.core.jobs.needs import Declared, accepted_of
from dokimon.core.jobs.options import AcrossOptions, CloneOptions, SmokeOptions
from dokimon.core.jobs.verify import Verified, verify
from dokimon.core.jobs.workspace import surveyor_for
from dokimon.core.machine.catalogue import Tool
from dokimon.core.machine.survey import Installation
from dokimon.core.planning.plan import PlanFault
from dokimon.core.processes.ports import Ports
from dokimon.core.processes.watching import Watcher
from dokimon.core.proving.across import across_of, not_made, together, tried_of, verdict_of
from dokimon.core.proving.combining import Combination, NoSuchCombination, combined, named, wished
from dokimon.core.proving.git import CloneFault
from dokimon.core.proving.side_by_side import side_by_side
from dokimon.core.proving.versions_here import all_put_first, copies_to_try, not_here
from dokimon.core.records.proofs import Proof, keep_proof, proofs_of, tools_of
from dokimon.core.records.remembering import store_of
from dokimon.core.records.store import RecordsFault
from dokimon.core.report.model import FORMAT, FORMAT_MINOR, Accepted, Across, NotTried, Report, Tried
from dokimon.core.settings.tables import SettingsFault
from dokimon.core.text import clean, nearest
from dokimon.core.versions.sets import NONE, VersionSet


class AcrossFault(Fault):
    """The tool is not one that a project can be tried with."""


def smoke_across(
    folder: Path,
    environment: Mapping[str, str],
    options: SmokeOptions,
    clone_options: CloneOptions,
    wish: AcrossOptions,
    halt: threading.Event,
    watcher: Watcher,
) -> Report:
    """Smoke-check clones of the checkout, the oldest version of the tool first; return one report.

    A failure in one ends no other. Raises `AcrossFault`, and what `smoke_clone` raises.
    """
    watcher.stage("verify", "reading the checkout and looking for the copies of the tool")
    verified = verify(folder, environment)
    here = _Here.of(verified, wish)
    works = list(enumerate(here.combinations(wish), 1))
    trial = _Trial(here, folder, environment, options, clone_options, halt, watcher, len(works))
    at_once = min(wish.at_once, len(works))
    if at_once > 1:
        trial.options = msgspec.structs.replace(trial.options, ports=Ports())
        tried = side_by_side(works, trial.beside, at_once, halt)
        tried = [trial.again(work) if each is None else each for work, each in zip(works, tried, strict=False)]
    else:
        tried = side_by_side(works, trial.alone, 1, halt)
    made = [each for each in tried if each is not None]
    if trial.faults and len(trial.faults) >= len(made):  # it stands against every one of them
        raise trial.faults[0]
    across = across_of(here.accepted, made, here.not_tried())
    report = Report(
        format=FORMAT,
        minor=FORMAT_MINOR,
        command="smoke",
        verdict=verdict_of(made),
        project=verified.workspace.project,
        requirements=(),
        across=across,
        interrupted=halt.is_set(),
    )
    if options.record and made and not report.interrupted:
        _remember(verified, environment, across, watcher)
    return report


def _remember(verified: Verified, environment: Mapping[str, str], across: Across, watcher: Watcher) -> None:
    """Keep what was proven, for `needs --suggest`."""
    checkout = verified.checkout
    store = store_of(environment, checkout.untrusted)
    if store is None:
        return
    revision = revision_of(checkout.root)
    commit = revision.commit if revision else None
    folder = checkout.project.relative_to(checkout.root).as_posix()
    try:
        with closing(store):
            # One version after the other may have been tried of a commit.
            before = [
                each.across for each in proofs_of(store, checkout.root, folder) if each.commit == commit is not None
            ]
            same = [each for each in before if tools_of(each) == tools_of(across)]
            at = datetime.now(UTC).isoformat(timespec="seconds")
            proof = Proof(across=together([*same, across]), at=at, commit=commit, folder=folder)
            keep_proof(store, checkout.root, proof)
    except RecordsFault as wrong:
        watcher.note(f"what was proven could not be kept: {wrong}")


def combinations(folder: Path, environment: Mapping[str, str], wish: AcrossOptions) -> list[dict[str, str]]:
    """Return what `smoke_across` would try, each as what names it: for jobs of a CI system. Raises as that does."""
    here = _Here.of(verify(folder, environment), wish)
    return [
        {**({"tool": one[0].tool, "version": one[0].version or "?"} if len(one) == 1 else {}),
         **({} if len(one) == 1 else {copy.tool: copy.version or "?" for copy in one}), "only": named(one)}
        for one in here.combinations(wish)
    ]  # fmt: skip


class _Here(msgspec.Struct, frozen=True, kw_only=True):
    """The tools that are asked about: their entries, what is declared of each, the copies that can be tried."""

    verified: Verified
    entries: dict[str, Tool]
    accepted: tuple[Accepted, ...]
    sets: dict[str, VersionSet | None]
    every: dict[str, list[Installation]]
    copies: dict[str, list[Installation]]

    @classmethod
    def of(cls, verified: Verified, wish: AcrossOptions) -> _Here:
        """Find them; raises `AcrossFault`."""
        names = list(dict.fromkeys(_tool(verified, asked) for asked in wish.tools))
        catalogue = verified.workspace.catalogue
        sets = {name: _accepted_set(verified.declared, name) for name in names}
        found = {name: _copies(verified, name) for name in names}
        every = {name: copies_to_try(found[name]) for name in names}
        return cls(
            verified=verified,
            entries={name: entry for name in names if (entry := catalogue.find(name))},
            accepted=tuple(Accepted(tool=name, accepts=accepted_of(verified.declared, name)) for name in names),
            sets=sets,
            every=every,
            copies=every if wish.only else {name: copies_to_try(found[name], sets[name]) for name in names},
        )

    def combinations(self, wish: AcrossOptions) -> list[Combination]:
        """Return what is to be tried; raises `AcrossFault`."""
        if not wish.only:
            return combined(self.copies, all_pairs=wish.all_pairs)
        names = {command: entry.name for entry in self.entries.values() for command in entry.commands}
        try:
            return [wished(words, self.copies, names) for words in wish.only]
        except NoSuchCombination as wrong:
            raise AcrossFault(f"--only: {wrong}") from None

    def not_tried(self) -> list[NotTried]:
        """Return what is declared and not here."""
        machine = self.verified.machine
        return [
            each
            for name, entry in self.entries.items()
            for each in not_here(entry, self.sets[name] or NONE, self.every[name], machine)
        ]


def _accepted_set(declared: Declared, tool: str) -> VersionSet | None:
    return next((each.versions for each in declared.agreements if each.subject == tool and each.versions), None)


def _tool(verified: Verified, asked: str) -> str:
    catalogue = verified.workspace.catalogue
    name = catalogue.by_command(asked)
    if name is None:
        near = nearest(asked, list(catalogue.names()))
        meant = f"; did you mean {near}?" if near else ""
        raise AcrossFault(f"--across: the catalogue has no tool {clean(asked, 40)!r}{meant}")
    return name


def _copies(verified: Verified, name: str) -> list[Installation]:
    if name in verified.installations:
        return verified.installations[name]
    folder = verified.checkout.project
    survey = surveyor_for(verified.workspace, folder, verified.environment, fresh=False).survey({name})
    return survey.installations[name]


class _Trial:
    """Carries out one clone under a combination. That a need is not met by it is told, and it is tried all the same."""

    def __init__(
        self,
        here: _Here,
        folder: Path,
        environment: Mapping[str, str],
        options: SmokeOptions,
        clone_options: CloneOptions,
        halt: threading.Event,
        watcher: Watcher,
        total: int,
    ) -> None:
        self._here, self._folder, self._environment = here, folder, environment
        self.options, self._clone_options = msgspec.structs.replace(options, anyway=True), clone_options
        self._halt, self._watcher, self._total = halt, watcher, total
        self.faults: list[Fault] = []

    def alone(self, work: tuple[int, Combination]) -> Tried:
        """Try a combination with nothing beside it."""
        number, copies = work
        self._watcher.stage(named(copies), f"{number} of {self._total}: {', '.join(each.program for each in copies)}")
        tried, _ = self._tried(copies, self.options, self._watcher)
        # What stands against the first one stands against all.
        if number == 1 and self.faults and self.options.ports is None:
            raise self.faults[0]
        return tried

    def beside(self, work: tuple[int, Combination]) -> Tried | None:
        """Try a combination beside others; None where it failed for a port that one of them may have had."""
        watcher = self._watcher.beside(f"{work[0]} of {self._total}: {named(work[1])}")
        try:
            tried, for_want_of_port = self._tried(work[1], self.options, watcher)
        finally:
            watcher.over()
        return None if for_want_of_port else tried

    def again(self, work: tuple[int, Combination]) -> Tried | None:
        """Try alone what failed beside others; None where it is to end."""
        return None if self._halt.is_set() else self.alone(work)

    def _tried(self, copies: Combination, options: SmokeOptions, watcher: Watcher) -> tuple[Tried, bool]:
        entries = self._here.entries
        leading = msgspec.structs.replace(
            self._clone_options, leading=lambda clean: all_put_first(copies, entries, clean)
        )
        try:
            report = smoke_clone(self._folder, self._environment, options, leading, self._halt, watcher)
        except (CloneFault, PlanFault, SettingsFault) as fault:
            self.faults.append(fault)
            return not_made(copies, str(fault).partition("\n")[0]), False
        causes = {cause.name for run in report.runs or () for cause in run.diagnoses}
        return tried_of(copies, report), "port-in-use" in causes
