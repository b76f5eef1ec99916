"""What a checkout declares. A new ecosystem is one more module here and one more entry in `ECOSYSTEMS`."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from types import ModuleType
from typing import NamedTuple

import msgspec

from dokimon.core.declarations import (
    advice,
    dart,
    dotnet,
    elixir,
    embedded,
    golang,
    gradle,
    maven,
    native,
    node,
    php,
    python,
    ruby,
    rust,
    swift,
    tool_versions,
)
from dokimon.core.declarations.checkout import Checkout
from dokimon.core.declarations.manifest import Manifest, ManifestFault, open_manifest
from dokimon.core.declarations.requirement import Requirement, Source, unreadable
from dokimon.core.declarations.walking import walk
from dokimon.core.text import clean

ECOSYSTEMS: tuple[ModuleType, ...] = (
    node, python, php, maven, gradle, dotnet, native, embedded, rust, golang, ruby, swift, elixir, dart,
    tool_versions, advice,
)  # fmt: skip
"""Each has `READERS` (file names, or patterns with one `*`, and what reads them), `SPEAKS_OF` and `UNREAD`."""


class _Reader(NamedTuple):
    read: Callable[[Manifest], list[Requirement]]
    ecosystem: ModuleType
    order: int


def _tables() -> tuple[dict[str, list[_Reader]], list[tuple[str, str, str, _Reader]]]:
    """Return the readers by exact name, and those by pattern: the folder it ends in, what stands before and after `*`."""
    exact: dict[str, list[_Reader]] = {}
    patterns = []
    everything = ((ecosystem, *item) for ecosystem in ECOSYSTEMS for item in ecosystem.READERS.items())
    for order, (ecosystem, name, read) in enumerate(everything):
        reader = _Reader(read, ecosystem, order)
        if "*" in name:
            folder, _, pattern = name.rpartition("/")
            before, _, after = pattern.partition("*")
            patterns.append((folder, before, after, reader))
        else:
            exact.setdefault(name, []).append(reader)
    return exact, patterns


_EXACT, _PATTERNS = _tables()


def manifest_names() -> frozenset[str]:
    """Return the exact names of all files that some reader reads."""
    return frozenset(_EXACT)


def read_declarations(checkout: Checkout) -> list[Requirement]:
    """Return what the manifests of the checkout require, in a fixed order.

    Those of the folders from the root down to the project count, and all below the project. A file that cannot be
    read leaves one requirement behind whose `fault` says why; it never hides the others.
    """
    found: list[Requirement] = []
    root = str(checkout.root)
    for folder, names in _folders(checkout):
        part = folder[len(root) + 1 :] or "."
        matching = [(reader, name) for name in names for reader in _readers_of(folder, name)]
        for reader, name in sorted(matching, key=lambda pair: pair[0].order):
            for each in _read(Path(folder, name), checkout.root, reader):
                found.append(each if part == "." else msgspec.structs.replace(each, part=clean(part)))
    return _without_implied(found)


def _folders(checkout: Checkout) -> Iterator[tuple[str, list[str]]]:
    for folder in checkout.lineage[:-1]:
        names = next(iter(walk(folder)), ("", []))[1]
        yield str(folder), names
    yield from walk(checkout.project)


def _readers_of(folder: str, name: str) -> list[_Reader]:
    found = _EXACT.get(name, [])
    for ending, before, after, reader in _PATTERNS:
        if name.endswith(after) and name.startswith(before) and (not ending or folder.endswith(f"/{ending}")):
            found = [*found, reader]
    return found


def _read(path: Path, root: Path, reader: _Reader) -> list[Requirement]:
    ecosystem = reader.ecosystem
    try:
        if path.name in ecosystem.UNREAD:
            return reader.read(Manifest(path, clean(path.relative_to(root).as_posix()), "", root))
        return reader.read(open_manifest(path, root))
    except ManifestFault as wrong:
        line, reason = wrong.line, wrong.reason
    except Exception as wrong:  # a reader's own mistake must not hide what the other files say
        line, reason = 1, f"made Dokimon's own reader stumble ({type(wrong).__name__}: {wrong}); please report it"
    if not ecosystem.SPEAKS_OF:
        return []
    shown = clean(path.relative_to(root).as_posix())
    return [unreadable(ecosystem.SPEAKS_OF, Source(shown, line, ""), f"{shown} {clean(reason)}")]


def _without_implied(found: list[Requirement]) -> list[Requirement]:
    """Leave out "any version" where a declaration speaks of the same tool anyway, and its repetitions."""

    def implied(each: Requirement) -> bool:
        return each.kind == "tool" and each.constraint is None and each.fault is None and not each.alternatives

    spoken = {each.tool for each in found if each.kind == "tool" and each.strength == "required" and not implied(each)}
    kept = []
    for each in found:
        if implied(each):
            if each.tool in spoken:
                continue
            spoken.add(each.tool)
        kept.append(each)
    return kept
