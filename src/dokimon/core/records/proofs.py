"""What was proven of a checkout under versions of tools: the last of each group of tools, for suggestions."""

from __future__ import annotations

from contextlib import closing
from pathlib import Path

import msgspec

from dokimon.core.records.places import find_place, settle_place
from dokimon.core.records.store import RecordsFault, Store
from dokimon.core.report.model import Across


class Proof(msgspec.Struct, frozen=True, kw_only=True):
    """What came of it, when (RFC 3339), at which commit, in which folder of the checkout (relative to its root)."""

    across: Across
    at: str
    commit: str | None = None
    folder: str = "."


def keep_proof(store: Store, root: Path, proof: Proof) -> str | None:
    """Keep a proof; return why it could not be kept, or None."""
    tools = [proof.across.tool, *(each.tool for each in proof.across.beside)]
    try:
        with closing(store):
            store.keep_proof(
                settle_place(store, root), f"{proof.folder}\n{' '.join(tools)}", msgspec.json.encode(proof)
            )
    except RecordsFault as wrong:
        return str(wrong)
    return None


def proofs_of(store: Store, root: Path, folder: str = ".") -> list[Proof]:
    """Return what was proven last of a folder of the checkout at `root`, the oldest first; raises `RecordsFault`."""
    with closing(store):
        place = find_place(store, root)
        found = [] if place is None else store.proofs(place)
    read = []
    for content in found:
        try:
            read.append(msgspec.json.decode(content, type=Proof))
        except (msgspec.DecodeError, UnicodeDecodeError):  # of another version of Dokimon
            continue
    return sorted((each for each in read if each.folder == folder), key=lambda each: each.at)
