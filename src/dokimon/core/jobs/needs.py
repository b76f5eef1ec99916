"""`dokimon needs`: what the checkout declares, and whether that can all be true. Nothing of the machine is looked at."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from pathlib import Path

import msgspec

from dokimon.core.declarations.checkout import Checkout, projects_below
from dokimon.core.declarations.declared import ManifestFile, manifest_files, read_declarations
from dokimon.core.declarations.requirement import Requirement
from dokimon.core.jobs.workspace import Workspace, open_workspace
from dokimon.core.judging.agreement import Agreement, agreements, contradiction_in_words, drift_in_words, drifts
from dokimon.core.judging.findings import describe, ids_of
from dokimon.core.report.model import FORMAT, FORMAT_MINOR, Agreed, Conflict, Report, Verdict
from dokimon.core.settings.needs import read_needs
from dokimon.core.text import clean


class Declared(msgspec.Struct, frozen=True):
    """What `needs` knows: the workspace, the requirements, what they come to together, the files that were read.

    `files` are relative to the root of the checkout.
    """

    workspace: Workspace
    requirements: tuple[Requirement, ...]
    agreements: tuple[Agreement, ...]
    files: tuple[str, ...] = ()

    @property
    def checkout(self) -> Checkout:
        """The checkout that was read."""
        return self.workspace.checkout


def declare(start: Path, environment: Mapping[str, str], may_ask: Collection[str] = ()) -> Declared:
    """Read the checkout that holds the folder `start`; `may_ask` are commands that only it names and that may be run.

    Raises `SettingsFault` when its `dokimon.toml` cannot be used, `CatalogueFault` when a catalogue of one's own cannot.
    """
    workspace = open_workspace(start, environment, may_ask)
    files = manifest_files(workspace.checkout)
    requirements = requirements_of(workspace, files)
    below = len(str(workspace.checkout.root)) + 1
    names = tuple(dict.fromkeys(file.location[below:] for file in files))
    return Declared(workspace, requirements, tuple(agreements(requirements, workspace.catalogue)), names)


def requirements_of(workspace: Workspace, files: Sequence[ManifestFile] | None = None) -> tuple[Requirement, ...]:
    """Return what the checkout of a workspace (its `files`, where they are known) declares, its settings last."""
    manifest = workspace.manifest
    needs = read_needs(workspace.settings, manifest, workspace.catalogue) if manifest else []
    return (*read_declarations(workspace.checkout, files), *needs)


def conflicts_of(declared: Declared) -> tuple[Conflict, ...]:
    """Return the contradictions among the declarations as the report names them."""
    contradicting = [each for each in declared.agreements if each.between]
    ids = ids_of(declared.requirements) if contradicting else ()
    return tuple(
        Conflict(
            tool=clean(each.subject, 120),
            between=tuple(ids[index] for index in each.between),
            reason=clean(contradiction_in_words(declared.requirements, each)),
        )
        for each in contradicting
    )


def agreed_of(declared: Declared) -> tuple[Agreed, ...]:
    """Return what the declarations of each subject come to, where they do not contradict each other."""
    return tuple(
        Agreed(
            tool=clean(each.subject, 120),
            accepts=str(each.versions),
            lowest=each.lowest,
            newest=each.newest,
            places=each.places,
        )
        for each in declared.agreements
        if each.versions
    )


def accepted_of(declared: Declared, tool: str) -> str | None:
    """Return what all required declarations of a tool accept together, in words; None where nothing narrows it."""
    return next((each.accepts for each in agreed_of(declared) if each.tool == tool), None)


def notes_of(declared: Declared) -> tuple[str, ...]:
    """Return the advice that has drifted from what is declared, in words."""
    found = drifts(declared.requirements, declared.agreements)
    return tuple(clean(drift_in_words(declared.requirements, each)) for each in found)


def projects_of(declared: Declared) -> tuple[str, ...]:
    """Return the projects below a folder that is not one itself, relative to it."""
    if declared.requirements or declared.checkout.deep:
        return ()
    return tuple(clean(name, 200) for name in projects_below(declared.workspace.start))


def needs_report(declared: Declared) -> Report:
    """Return the report of `dokimon needs`: `unmet` where declarations contradict each other, whatever the machine has."""
    conflicts = conflicts_of(declared)
    unread = any(each.fault and each.strength == "required" for each in declared.requirements)
    verdict: Verdict = "unknown" if unread else "met"
    return Report(
        format=FORMAT,
        minor=FORMAT_MINOR,
        command="needs",
        verdict="unmet" if conflicts else verdict,
        project=declared.workspace.project,
        projects_below=projects_of(declared),
        requirements=describe(declared.requirements, declared.workspace.catalogue),
        conflicts=conflicts,
        agreed=agreed_of(declared),
        notes=notes_of(declared),
    )
