"""`dokimon smoke --across TOOL`: the project under every version of a tool that is here, each in a clone of its own."""

from __future__ import annotations

import threading
from collections.abc import Mapping
from pathlib import Path

import msgspec

from dokimon.core.faults import Fault
from dokimon.core.jobs.clone import smoke_clone
from dokimon.core.jobs.needs import accepted_of
from dokimon.core.jobs.smoke import CloneOptions, SmokeOptions
from dokimon.core.jobs.verify import Verified, verify
from dokimon.core.jobs.workspace import surveyor_for
from dokimon.core.machine.survey import Installation
from dokimon.core.processes.watching import Watcher
from dokimon.core.proving.across import sentences, tried_of, verdict_of
from dokimon.core.proving.versions_here import copies_to_try, put_first
from dokimon.core.report.model import FORMAT, FORMAT_MINOR, Across, Report, Tried
from dokimon.core.text import clean, nearest


class AcrossFault(Fault):
    """The tool is not one that a project can be tried with."""


def smoke_across(
    folder: Path,
    environment: Mapping[str, str],
    options: SmokeOptions,
    clone_options: CloneOptions,
    tool: str,
    halt: threading.Event,
    watcher: Watcher,
    only: str | None = None,
) -> Report:
    """Smoke-check clones of the checkout, one after the other, the oldest version of the tool first; return one report.

    With `only` just this version is tried. A failure in one ends no other. Raises `AcrossFault`, `CloneFault` and what
    `smoke` raises.
    """
    watcher.stage("verify", "reading the checkout and looking for the copies of the tool")
    verified = verify(folder, environment)
    name = _tool(verified, tool)
    copies = _only(copies_to_try(_copies(verified, name)), name, only)
    tried = []
    for number, copy in enumerate(copies, 1):
        if halt.is_set():
            break
        watcher.stage(f"{name} {copy.version}", f"{number} of {len(copies)}: {copy.program}")
        tried.append(_try(copy, verified, folder, environment, options, clone_options, halt, watcher))
    accepts = accepted_of(verified.declared, name)
    across = Across(tool=name, accepts=accepts, tried=tuple(tried), says=sentences(name, accepts, tried))
    return Report(
        format=FORMAT,
        minor=FORMAT_MINOR,
        command="smoke",
        verdict=verdict_of(tried),
        project=verified.workspace.project,
        requirements=(),
        across=across,
        interrupted=halt.is_set(),
    )


def combinations(folder: Path, environment: Mapping[str, str], tool: str) -> list[dict[str, str]]:
    """Return what `smoke_across` would try, each as what names it: for jobs of a CI system. Raises as that does."""
    verified = verify(folder, environment)
    name = _tool(verified, tool)
    return [{"tool": name, "version": copy.version or "?"} for copy in copies_to_try(_copies(verified, name))]


def _only(copies: list[Installation], name: str, only: str | None) -> list[Installation]:
    if only is None:
        return copies
    version = only.removeprefix(name).strip().removeprefix("v")
    found = [copy for copy in copies if copy.version == version]
    if not found:
        here = ", ".join(copy.version or "?" for copy in copies) or "none"
        raise AcrossFault(f"--only: there is no {name} {clean(version, 40)} here that can be run; there is: {here}")
    return found


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


def _try(
    copy: Installation,
    verified: Verified,
    folder: Path,
    environment: Mapping[str, str],
    options: SmokeOptions,
    clone_options: CloneOptions,
    halt: threading.Event,
    watcher: Watcher,
) -> Tried:
    """Carry out one clone under a copy. That a need is not met by it is told, and it is tried all the same."""
    entry = verified.workspace.catalogue.find(copy.tool)
    with_copy = msgspec.structs.replace(clone_options, leading=lambda clean: put_first(copy, entry, clean))
    anyway = msgspec.structs.replace(options, anyway=True)
    report = smoke_clone(folder, environment, anyway, with_copy, halt, watcher)
    return tried_of(copy, report)
