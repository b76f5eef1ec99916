"""Reading what a checkout declares: every manifest in it, each by the reader of its ecosystem."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from itertools import islice
from pathlib import Path
from typing import NamedTuple

import msgspec

from dokimon.core.declarations.checkout import Checkout
from dokimon.core.declarations.ecosystems import ECOSYSTEMS, Ecosystem
from dokimon.core.declarations.requirement import Requirement, unreadable
from dokimon.core.declarations.subjects import ToolSubject
from dokimon.core.declarations.versions_of_folders import is_version_file
from dokimon.core.declarations.walking import VARIANTS, walk
from dokimon.core.reading.manifest import Manifest, ManifestFault, open_manifest
from dokimon.core.source import Source
from dokimon.core.text import clean


class _Reader(NamedTuple):
    function: str
    ecosystem: Ecosystem
    order: int


def _tables() -> tuple[dict[str, list[_Reader]], dict[str, list[tuple[str, _Reader]]]]:
    """Return the readers by exact name, and those of a pattern by its ending, each with the folder it must be in."""
    exact: dict[str, list[_Reader]] = {}
    endings: dict[str, list[tuple[str, _Reader]]] = {}
    everything = ((ecosystem, *item) for ecosystem in ECOSYSTEMS for item in ecosystem.readers.items())
    for order, (ecosystem, name, function) in enumerate(everything):
        reader = _Reader(function, ecosystem, order)
        if "*" in name:
            folder, _, pattern = name.rpartition("/")
            endings.setdefault(pattern.removeprefix("*"), []).append((folder, reader))
        else:
            exact.setdefault(name, []).append(reader)
    return exact, endings


_EXACT, _ENDINGS = _tables()


def manifest_names() -> frozenset[str]:
    """Return the exact names of all files that some reader reads."""
    return frozenset(_EXACT)


def read_declarations(checkout: Checkout, files: Sequence[ManifestFile] | None = None) -> list[Requirement]:
    """Return what the manifests of the checkout (`files`, where they are known already) require, in a fixed order.

    Those of the folders from the root down to the project count, and all below the project. A file that cannot be
    read leaves one requirement behind whose `fault` says why; it never hides the others.
    """
    found: list[Requirement] = []
    # The whole walk first, then opening and reading in rows: doing one thing at a time takes two thirds of the time that
    # doing each for every file in turn takes, and the rows keep no more than a few manifests in memory.
    left = iter(manifest_files(checkout) if files is None else files)
    while batch := list(islice(left, _AT_ONCE)):
        for file, manifest in [(file, _opened(file, checkout.root)) for file in batch]:
            for each in _read(file, manifest):
                found.append(msgspec.structs.replace(each, part=file.part, family=file.reader.ecosystem.module))
    return _without_implied(found)


_AT_ONCE = 64
"""Files that are opened in a row before they are read in a row."""


class ManifestFile(NamedTuple):
    """A file that a reader reads: its path, the folder relative to the root, the names beside it."""

    location: str
    part: str
    beside: frozenset[str]
    reader: _Reader


def manifest_files(checkout: Checkout) -> list[ManifestFile]:
    """Return the files of the checkout that readers read, in a fixed order."""
    return list(_files(checkout))


def _files(checkout: Checkout) -> Iterator[ManifestFile]:
    """Yield the files to read, folder by folder, in each in the order of the readers."""
    root = len(str(checkout.root)) + 1
    for folder, names in _folders(checkout):
        part, beside = clean(folder[root:]) or ".", frozenset(names)
        matching = [(reader, name) for name in names for reader in _readers_of(folder, name)]
        if len(matching) > 1:
            matching.sort(key=lambda pair: pair[0].order)
        for reader, name in matching:
            yield ManifestFile(f"{folder}/{name}", part, beside, reader)


def _opened(file: ManifestFile, root: Path) -> Manifest | ManifestFault:
    name = file.location.rpartition("/")[2]
    if name in file.reader.ecosystem.unread:
        return Manifest(
            location=file.location,
            name=clean(file.location[len(str(root)) + 1 :]),
            text="",
            root=root,
            beside=file.beside,
        )
    try:
        return open_manifest(file.location, root, file.beside)
    except ManifestFault as fault:
        return fault


def _folders(checkout: Checkout) -> Iterator[tuple[str, list[str]]]:
    for folder in checkout.lineage[:-1] if checkout.deep else checkout.lineage:
        yield str(folder), sorted(name for name in os.listdir(folder) if _wanted(name))  # noqa: PTH208
    if checkout.deep:
        yield from walk(checkout.project, frozenset(_EXACT), frozenset(_ENDINGS))


def _wanted(name: str) -> bool:
    return name in _EXACT or name[name.rfind(".") :] in _ENDINGS or name.startswith(VARIANTS)


def _readers_of(folder: str, name: str) -> list[_Reader]:
    found = _EXACT.get(VARIANTS.rstrip(".") if name.startswith(VARIANTS) else name, [])
    for ending, reader in _ENDINGS.get(name[name.rfind(".") :], ()):
        is_taken = any(each.ecosystem is reader.ecosystem for each in found)
        if not is_taken and (not ending or folder.endswith(f"/{ending}")):
            found = [*found, reader]
    return found


def _read(file: ManifestFile, manifest: Manifest | ManifestFault) -> list[Requirement]:
    speaks_of = file.reader.ecosystem.speaks_of
    try:
        if isinstance(manifest, Manifest):
            return file.reader.ecosystem.reader(file.reader.function)(manifest)
        line, reason = manifest.line, manifest.reason
    except ManifestFault as wrong:
        line, reason = wrong.line, wrong.reason
    except Exception as wrong:  # a reader's own mistake must not hide what the other files say
        line, reason = (
            1,
            f"could not be read because of a bug in Dokimon ({type(wrong).__name__}: {wrong}); please report it",
        )
    if not speaks_of:
        return []
    name = file.location.rpartition("/")[2]
    shown = clean(name if file.part == "." else f"{file.part}/{name}")
    return [unreadable(speaks_of, Source(shown, line, ""), f"{shown} {clean(reason)}")]


def _without_implied(found: list[Requirement]) -> list[Requirement]:
    """Leave out "any version" where another declaration is about the same tool, and repetitions."""

    def implied(each: Requirement) -> bool:
        is_plain = isinstance(each.subject, ToolSubject) and each.constraint is None and each.fault is None
        # What a version file picks (`system`, `nightly`) is a choice of its own.
        return is_plain and not is_version_file(each.source.file)

    spoken = {
        each.tool
        for each in found
        if isinstance(each.subject, ToolSubject) and each.strength == "required" and not implied(each)
    }
    kept = []
    for each in found:
        if implied(each):
            if each.tool in spoken:
                continue
            spoken.add(each.tool)
        kept.append(each)
    return kept
