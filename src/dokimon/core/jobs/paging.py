"""A report as a page, with what this machine keeps beside it: earlier smoke checks, and pictures that checks took."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path

from dokimon.core.declarations.checkout import find_checkout
from dokimon.core.machine.platform import own_folder
from dokimon.core.records.remembering import Memory, store_of
from dokimon.core.records.store import RecordsFault
from dokimon.core.report import as_page
from dokimon.core.report.model import Report


def page_of(report: Report, environment: Mapping[str, str]) -> str:
    """Return the page of a report that was just made here; one to share has no pictures and no history."""
    if report.shared:
        return as_page.encode(report)
    own = own_folder("cache", environment)
    root = Path(report.project.root)
    store = store_of(environment, find_checkout(root).untrusted) if root.is_dir() else None
    rows = []
    if store:
        with suppress(RecordsFault):  # the call itself says so, where it could not keep its record
            rows = [kept.row for kept in Memory(store, root, root / (report.project.folder or ".")).rows()]
        store.close()
    return as_page.encode(report, rows, own / "logs" if own else None)
