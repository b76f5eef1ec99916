"""Reading the untrusted files of a checkout: bounded, decoded, parsed, and with the line of each key."""

from __future__ import annotations

import codecs
import re
import tomllib
from bisect import bisect_right
from functools import lru_cache
from pathlib import Path
from typing import Any

import msgspec

from dokimon.core.faults import Fault
from dokimon.core.files import NotPlain, bytes_of_file
from dokimon.core.reading.json_places import json_place, without_comments
from dokimon.core.reading.toml_lines import MOST_PARTS, deep_key
from dokimon.core.source import Source
from dokimon.core.text import clean

LARGEST_BYTES = 4 * 1024 * 1024
"""A manifest written by people is far smaller; lock files, which may be larger, are not read whole."""


class ManifestFault(Fault):
    """A file of the checkout that cannot be read: `line` (from 1), and the reason in words that can follow its name."""

    def __init__(self, line: int, reason: str) -> None:
        super().__init__(reason, line=line)


_NEAR = 30
"""Lines; the beginning of a file is found faster without a list of all lines."""


@lru_cache(maxsize=4)
def _line_starts(text: str) -> list[int]:
    """Return where each line begins: a file may be asked for thousands of its lines."""
    return [0, *(found.end() for found in re.finditer("\n", text))]


def line_at(text: str, place: int) -> int:
    """Return the line (from 1) of a place in a text, fast also when it is asked for many."""
    return bisect_right(_line_starts(text), place)


class Manifest(msgspec.Struct, frozen=True, kw_only=True):
    """The text of one file of the checkout, the name that sources give it (relative to the root, with `/`), the root.

    `beside` are the names of the files in the same folder, where they are known.
    """

    location: str
    name: str
    text: str
    root: Path
    beside: frozenset[str] = frozenset()

    @property
    def path(self) -> Path:
        """The path of the file. Made when asked for: most readers need the text alone."""
        return Path(self.location)

    def source(self, line: int) -> Source:
        """Return the source for a line of this file, quoting it."""
        starts = _line_starts(self.text) if line > _NEAR else None
        if starts is not None:
            return self._source(starts[line - 1], line) if line <= len(starts) else Source(self.name, line, "")
        place = 0
        for _ in range(line - 1):
            place = self.text.find("\n", place) + 1
            if not place:
                return Source(self.name, line, "")
        return self._source(place, line)

    def json_source(self, *keys: str | int) -> Source:
        """Return the source for the value at `keys` of a JSON manifest."""
        place = json_place(self.text, keys)
        return self._source(place, self.text.count("\n", 0, place) + 1)

    def _source(self, place: int, line: int) -> Source:
        start, end = self.text.rfind("\n", 0, place) + 1, self.text.find("\n", place)
        return Source(self.name, line, clean(self.text[start : end if end >= 0 else None].strip(), 160))


def open_manifest(path: Path | str, root: Path, beside: frozenset[str] = frozenset()) -> Manifest:
    """Read a text file of the checkout. Raises `ManifestFault` when it is not a readable UTF-8 file, or too large.

    A link is followed only while it stays below `root`: a checkout must not make other files of this machine speak.
    """
    location = str(path)
    name = clean(location[len(str(root)) :].lstrip("/"))
    try:
        content = _read_plain(location, root)
    except NotPlain as wrong:
        raise ManifestFault(1, str(wrong.strerror)) from None
    except (OSError, RuntimeError) as wrong:
        raise ManifestFault(1, f"cannot be opened: {getattr(wrong, 'strerror', None) or wrong}") from None
    if len(content) > LARGEST_BYTES:
        raise ManifestFault(1, f"is larger than {LARGEST_BYTES // 1024 // 1024} MiB, too large for a manifest")
    try:
        return Manifest(
            location=location, name=name, text=content.removeprefix(codecs.BOM_UTF8).decode(), root=root, beside=beside
        )
    except UnicodeDecodeError as wrong:
        line = content[: wrong.start].count(b"\n") + 1
        raise ManifestFault(line, f"is not UTF-8 text (byte {wrong.start + 1})") from None


def _read_plain(location: str, root: Path) -> bytes:
    """Return the beginning of a plain file; one byte more than is allowed shows that it is too large."""
    try:
        return bytes_of_file(location, LARGEST_BYTES + 1, follow=False)
    except NotPlain:
        raise
    except OSError:
        path = Path(location)
        if not path.is_symlink():
            raise
        real = path.resolve()
        if not real.is_relative_to(root.resolve()):
            raise ManifestFault(1, "is a link to a place outside the checkout and is not followed") from None
        return bytes_of_file(real, LARGEST_BYTES + 1, follow=False)


def as_json(manifest: Manifest, *, comments: bool = False) -> dict[str, Any]:
    """Return the object that a JSON manifest holds; raises `ManifestFault`. `comments` where its ecosystem allows them."""
    import json

    try:
        read = json.loads(without_comments(manifest.text) if comments else manifest.text)
    except json.JSONDecodeError as wrong:
        raise ManifestFault(wrong.lineno, f"is not valid JSON: {wrong.msg}, column {wrong.colno}") from None
    except (RecursionError, ValueError):
        raise ManifestFault(1, "is nested too deeply, or holds a number too long to read") from None
    if not isinstance(read, dict):
        raise ManifestFault(1, "is not a JSON object")
    return read


def toml_or_nothing(text: str) -> dict[str, Any]:
    """Return the table that a TOML text holds; an empty one where it holds none, or would take for ever to be read."""
    if deep_key(text):
        return {}
    try:
        return tomllib.loads(text)
    except (ValueError, RecursionError):
        return {}


def as_toml(manifest: Manifest) -> dict[str, Any]:
    """Return the table that a TOML manifest holds; raises `ManifestFault`."""
    if line := deep_key(manifest.text):
        raise ManifestFault(line, f"has a key of more than {MOST_PARTS} parts")
    try:
        return tomllib.loads(manifest.text)
    except tomllib.TOMLDecodeError as wrong:
        found = re.search(r"\(at line (\d+), column (\d+)\)", str(wrong))
        line = int(found[1]) if found else manifest.text.count("\n") + 1
        reason = re.sub(r"\s*\(at .*?\)", "", str(wrong))
        raise ManifestFault(line, f"is not valid TOML: {reason}" + (f", column {found[2]}" if found else "")) from None
    except (RecursionError, ValueError):
        raise ManifestFault(1, "is nested too deeply, or holds a number too long to read") from None
