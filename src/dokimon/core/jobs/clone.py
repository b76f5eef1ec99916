"""`dokimon smoke --clone`: does what is committed start, prepared from nothing, with an empty home?"""

from __future__ import annotations

import shutil
import threading
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from pathlib import Path

import msgspec

from dokimon.core.declarations.checkout import Checkout, find_checkout
from dokimon.core.declarations.revision import repository_above
from dokimon.core.files import make_for_oneself
from dokimon.core.jobs.options import CloneOptions, SmokeOptions
from dokimon.core.jobs.smoke import Smoke, smoking
from dokimon.core.machine.platform import own_folder
from dokimon.core.planning.plan import PlanFault
from dokimon.core.processes.watching import Watcher
from dokimon.core.proving.clean_home import clean_environment
from dokimon.core.proving.cloning import Clone, clone_of
from dokimon.core.proving.lacking import lacks
from dokimon.core.records.remembering import Memory, last_passed, shown_time, store_of
from dokimon.core.records.store import RecordsFault
from dokimon.core.report.model import FromClone, Report
from dokimon.core.report.texts import with_texts

NAME = "<clone>"
"""What stands for the folder of a clone in a report: it is gone by then."""


def smoke_clone(
    folder: Path,
    environment: Mapping[str, str],
    options: SmokeOptions,
    clone_options: CloneOptions,
    halt: threading.Event,
    watcher: Watcher,
) -> Report:
    """Smoke-check a clone of the checkout that holds `folder`; return the report. Raises what `smoking_clone` raises."""
    with smoking_clone(folder, environment, options, clone_options, halt, watcher) as work:
        pass
    return work.report


@contextmanager
def smoking_clone(
    folder: Path,
    environment: Mapping[str, str],
    options: SmokeOptions,
    clone_options: CloneOptions,
    halt: threading.Event,
    watcher: Watcher,
) -> Iterator[Smoke]:
    """Smoke-check a clone as `smoking` does a checkout; its report says what the clone lacks, too.

    The checkout is only read. Raises `CloneFault`, and what `smoking` raises.
    """
    checkout = find_checkout(folder)
    top = repository_above(checkout.root) or checkout.root
    watcher.stage("clone", f"{'what is staged' if clone_options.staged else 'what is committed'} of {top}")
    with clone_of(top, environment, staged=clone_options.staged) as clone:
        given = clean_environment(environment, clone.home, empty=clone_options.empty)
        given = clone_options.leading(given) if clone_options.leading else given
        for note in clone.notes:
            watcher.note(note)
        bare = msgspec.structs.replace(options, record=False, share=False)
        try:
            with smoking(clone.root / folder.relative_to(top), given, bare, halt, watcher) as work:
                yield work
        except PlanFault as fault:
            raise PlanFault(fault.reason.replace(str(clone.root), NAME)) from None
        report = work.report
        wrong = report.verdict not in ("met", "passed") and not report.interrupted
        missing = lacks(report, top, checkout.project, clone, environment, given) if wrong else ()
        report = _as_of_checkout(report, clone, checkout.root, _keep_logs(clone, environment))
    told = FromClone(
        commit=clone.commit,
        staged=clone_options.staged,
        lacks=missing,
        notes=clone.notes,
        folder_passed=_when_it_passed(checkout, environment) if wrong else None,
    )
    work.report = msgspec.structs.replace(report, from_clone=told)


def _keep_logs(clone: Clone, environment: Mapping[str, str]) -> tuple[str, str] | None:
    """Move the logs to where those of this user are; return the folder that they were in and the one they are in now."""
    own = own_folder("cache", environment)
    made = clone.home / ".cache/dokimon/logs"
    if own is None or not made.is_dir():
        return None
    with suppress(OSError):
        make_for_oneself(own / "logs")
        for folder in made.iterdir():
            shutil.move(folder, own / "logs" / folder.name)
        return str(made), str(own / "logs")
    return None


def _as_of_checkout(report: Report, clone: Clone, root: Path, logs: tuple[str, str] | None) -> Report:
    """Return the report as that of the checkout: the clone's own folder is gone by the time that somebody reads it."""

    def change(text: str) -> str:
        if logs:
            text = text.replace(*logs)
        return text.replace(str(clone.root), NAME).replace(str(clone.home), "<empty home>")

    changed = with_texts(report, change)
    project = msgspec.structs.replace(changed.project, root=str(root))
    if changed.project.name == NAME:
        project = msgspec.structs.replace(project, name=str(root))
    return msgspec.structs.replace(changed, project=project)


def _when_it_passed(checkout: Checkout, environment: Mapping[str, str]) -> str | None:
    """Return when the folder itself last passed a smoke check, or None."""
    store = store_of(environment, checkout.untrusted)
    if store is None:
        return None
    try:
        rows = Memory(store, checkout.root, checkout.project).rows()
        found = last_passed([kept for kept in rows if kept.row.command == "smoke"])
        return shown_time(found.row.at) if found else None
    except RecordsFault:
        return None
    finally:
        store.close()
