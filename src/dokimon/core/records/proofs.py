"""What was proven of a checkout under versions of tools: the last of each group of tools, for suggestions."""

from __future__ import annotations

from pathlib import Path

import msgspec

from dokimon.core.records.places import find_place, settle_place
from dokimon.core.records.store import Store
from dokimon.core.report.model import Across


class Proof(msgspec.Struct, frozen=True, kw_only=True):
    """What came of it, when (RFC 3339), at which commit, in which folder of the checkout (relative to its root)."""

    across: Across
    at: str
    commit: str | None = None
    folder: str = "."


def tools_of(across: Across) -> tuple[str, ...]:
    """Return the tools whose versions were tried together."""
    return (across.tool, *(each.tool for each in across.beside))


def keep_proof(store: Store, root: Path, proof: Proof) -> None:
    """Keep a proof in place of what was proven before under the same tools; raises `RecordsFault`."""
    key = f"{proof.folder}\n{' '.join(tools_of(proof.across))}"
    store.keep_proof(settle_place(store, root), key, msgspec.json.encode(proof))


def proofs_of(store: Store, root: Path, folder: str = ".") -> list[Proof]:
    """Return what was proven last of a folder of the checkout at `root`, the oldest first; raises `RecordsFault`."""
    place = find_place(store, root)
    read = []
    for content in [] if place is None else store.proofs(place):
        try:
            read.append(msgspec.json.decode(content, type=Proof))
        except (msgspec.DecodeError, UnicodeDecodeError):  # of another version of Dokimon
            continue
    return sorted((each for each in read if each.folder == folder), key=lambda each: each.at)
