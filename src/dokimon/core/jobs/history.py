"""`dokimon history`: what was recorded of a checkout."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from dokimon.core.declarations.checkout import find_checkout
from dokimon.core.records.history import FORMAT, History, lines_of
from dokimon.core.records.remembering import Memory, store_of
from dokimon.core.text import clean


def history_of(start: Path, environment: Mapping[str, str]) -> tuple[History, list[str]]:
    """Return what was recorded of the checkout that holds the folder `start`, and notes on the records.

    Nothing is read of the checkout itself. Raises `RecordsFault`.
    """
    checkout = find_checkout(start)
    store = store_of(environment, checkout.untrusted)
    rows = Memory(store, checkout.root, checkout.project).rows() if store else []
    if store:
        store.close()
    history = History(
        format=FORMAT,
        root=clean(str(checkout.root)),
        name=rows[-1].row.name if rows else clean(checkout.project.name or str(checkout.project), 80),
        lines=lines_of([kept.row for kept in rows]),
    )
    return history, store.notes if store else []
