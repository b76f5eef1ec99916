"""Reading the files of a checkout, which nobody vouches for: bounded, decoded, parsed, and with the line of a key."""

from __future__ import annotations

import codecs
import os
import re
import stat
import tomllib
from collections.abc import Iterator
from functools import lru_cache
from pathlib import Path
from typing import Any

import msgspec

from dokimon.core.declarations.requirement import Source
from dokimon.core.text import clean

LARGEST_BYTES = 4 * 1024 * 1024
"""A manifest written by people is far smaller; lock files, which may be larger, are not read whole."""

Keys = tuple[str | int, ...]


class ManifestFault(Exception):
    """A manifest that cannot be read: `line` (from 1) and the reason in words."""

    def __init__(self, line: int, reason: str) -> None:
        super().__init__(reason)
        self.line = line
        self.reason = reason


class Manifest(msgspec.Struct, frozen=True):
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
        """Where the file lies. Made when asked for: most readers need the text alone."""
        return Path(self.location)

    def source(self, line: int) -> Source:
        """Return the source for a line of this file, quoting it."""
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
    """Read a text file of the checkout. Raises `ManifestFault` when it is no readable UTF-8 file of sensible size.

    A link is followed only while it stays below `root`: a checkout must not make other files of this machine speak.
    """
    location = str(path)
    name = clean(location[len(str(root)) :].lstrip("/"))
    try:
        content = _read_plain(location, root)
    except (OSError, RuntimeError) as wrong:
        raise ManifestFault(1, f"cannot be opened: {getattr(wrong, 'strerror', None) or wrong}") from None
    if len(content) > LARGEST_BYTES:
        raise ManifestFault(1, f"is larger than {LARGEST_BYTES // 1024 // 1024} MiB, too large for a manifest")
    try:
        return Manifest(location, name, content.removeprefix(codecs.BOM_UTF8).decode(), root, beside)
    except UnicodeDecodeError as wrong:
        line = content[: wrong.start].count(b"\n") + 1
        raise ManifestFault(line, f"is not UTF-8 text (byte {wrong.start + 1})") from None


def _read_plain(location: str, root: Path) -> bytes:
    """Return the beginning of a plain file. Opened without blocking: what looks like a manifest may be an idle pipe."""
    flags = os.O_RDONLY | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_NOFOLLOW", 0)
    try:
        descriptor = os.open(location, flags)
    except OSError:
        path = Path(location)
        if not path.is_symlink():
            raise
        if not path.resolve().is_relative_to(root.resolve()):
            raise ManifestFault(1, "is a link to a place outside the checkout and is not followed") from None
        descriptor = os.open(path.resolve(), flags)
    try:
        status = os.fstat(descriptor)
        if not stat.S_ISREG(status.st_mode):
            raise ManifestFault(1, "is not a plain file")
        content = os.read(descriptor, min(status.st_size, LARGEST_BYTES) + 1)
        while len(content) < min(status.st_size, LARGEST_BYTES + 1) and (chunk := os.read(descriptor, LARGEST_BYTES)):
            content += chunk
        return content
    finally:
        os.close(descriptor)


_COMMENT = re.compile(r'"(?:[^"\\\n]|\\.)*"|//[^\n]*|/\*.*?\*/', re.DOTALL)


def _without_comments(text: str) -> str:
    """Return JSON text with its comments blanked out, so that every place in it stays where it is."""

    def blank(found: re.Match[str]) -> str:
        return found[0] if found[0].startswith('"') else re.sub(r"[^\n]", " ", found[0])

    return _COMMENT.sub(blank, text)


def as_json(manifest: Manifest, *, comments: bool = False) -> dict[str, Any]:
    """Return the object that a JSON manifest holds; raises `ManifestFault`. `comments` where its ecosystem allows them."""
    import json

    try:
        read = json.loads(_without_comments(manifest.text) if comments else manifest.text)
    except json.JSONDecodeError as wrong:
        raise ManifestFault(wrong.lineno, f"is not valid JSON: {wrong.msg}, column {wrong.colno}") from None
    except (RecursionError, ValueError):
        raise ManifestFault(1, "is nested too deeply, or holds a number too long to read") from None
    if not isinstance(read, dict):
        raise ManifestFault(1, "holds no JSON object")
    return read


def as_toml(manifest: Manifest) -> dict[str, Any]:
    """Return the table that a TOML manifest holds; raises `ManifestFault`."""
    try:
        return tomllib.loads(manifest.text)
    except tomllib.TOMLDecodeError as wrong:
        found = re.search(r"\(at line (\d+), column (\d+)\)", str(wrong))
        line = int(found[1]) if found else manifest.text.count("\n") + 1
        reason = re.sub(r"\s*\(at .*?\)", "", str(wrong))
        raise ManifestFault(line, f"is not valid TOML: {reason}" + (f", column {found[2]}" if found else "")) from None
    except (RecursionError, ValueError):
        raise ManifestFault(1, "is nested too deeply, or holds a number too long to read") from None


_JSON_TOKEN = re.compile(r'"(?:[^"\\]|\\.)*"|[{}\[\],:]|[^\s{}\[\],:"]+')


def json_line(text: str, keys: Keys) -> int:
    """Return the line (from 1) on which the value at `keys` begins in a valid JSON text, comments allowed, or 1."""
    return text.count("\n", 0, json_place(text, keys)) + 1


def json_place(text: str, keys: Keys) -> int:
    """Return where (in characters) the value at `keys` begins in a valid JSON text, comments allowed, or 0."""
    place = _only_place(text, keys)
    return _json_places(text).get(keys, 0) if place is None else place


def _only_place(text: str, keys: Keys) -> int | None:
    """Return where the value begins when each key stands just once behind the one before it: then it can only be there."""
    place = 0
    for key in keys:
        quoted = f'"{key}"'
        found = text.find(quoted, place) if isinstance(key, str) else -1
        if found < 0 or text.find(quoted, found + 1) >= 0:
            return None
        place = found + len(quoted)
    while place < len(text) and text[place] in ": \t\r\n":
        place += 1
    return place if "/" not in text else None  # a comment may hold a key too


@lru_cache(maxsize=2)
def _json_places(text: str) -> dict[Keys, int]:
    """Return where each value begins; one file is asked for several of its lines in a row."""
    return dict(_json_values(_without_comments(text) if "/" in text else text))


def _json_values(text: str) -> Iterator[tuple[Keys, int]]:
    """Yield the path and the offset of every value of a valid JSON text, in order."""
    import json

    open_at: list[str | int] = []  # the key or index that is being read at each level; -1 before the first item
    is_list: list[bool] = []
    key_next = False
    for token in _JSON_TOKEN.finditer(text):
        word = token[0]
        if word in "}]":
            is_list.pop()
            open_at.pop()
            key_next = False
        elif word == ",":
            key_next = bool(is_list) and not is_list[-1]
        elif word == ":":
            key_next = False
        elif key_next:
            open_at[-1] = json.loads(word)
        else:
            if is_list and is_list[-1]:
                open_at[-1] = int(open_at[-1]) + 1
            yield tuple(open_at), token.start()
            if word in "{[":
                open_at.append(-1)
                is_list.append(word == "[")
                key_next = word == "{"


_TOML_KEY = re.compile(
    r"""\s*((?:"[^"]*"|'[^']*'|[A-Za-z0-9_-]+)(?:\s*\.\s*(?:"[^"]*"|'[^']*'|[A-Za-z0-9_-]+))*)\s*="""
)
_TOML_HEADER = re.compile(r"\s*(\[\[?)([^\]\[]+)\]")


def toml_line(text: str, keys: Keys) -> int:
    """Return the line (from 1) of the value at `keys` in a valid TOML text.

    Where the value has no line of its own (inside an inline table, say) it is the line of what holds it.
    """
    counts: dict[Keys, int] = {}
    here: Keys = ()
    best, depth = 1, 0
    for number, line in enumerate(text.splitlines(), start=1):
        if header := _TOML_HEADER.match(line):
            here = _with_indices(_split_key(header[2]), counts, new_item=header[1] == "[[")
            at = here
        elif key := _TOML_KEY.match(line):
            at = here + _split_key(key[1])
        else:
            continue
        shared = min(len(at), len(keys))
        if at[:shared] == keys[:shared] and shared > depth:
            best, depth = number, shared
    return best


def _split_key(dotted: str) -> Keys:
    parts = re.findall(r"""\s*(?:"([^"]*)"|'([^']*)'|([A-Za-z0-9_-]+))\s*\.?""", dotted)
    return tuple(double or single or bare for double, single, bare in parts)


def _with_indices(header: Keys, counts: dict[Keys, int], *, new_item: bool) -> Keys:
    """Put the index of the current item behind each name in `header` that is an array of tables."""
    path: Keys = ()
    for depth, name in enumerate(header):
        path = (*path, name)
        if new_item and depth == len(header) - 1:
            counts[path] = counts.get(path, -1) + 1
        if path in counts:
            path = (*path, counts[path])
    return path
