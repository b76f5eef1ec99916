"""The history of a repository, read from git's own files: its first commit, and how many lie between two."""

from __future__ import annotations

import re
import time
import zlib
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from dokimon.core.declarations.revision import common_folder, git_folder, head_of
from dokimon.core.expressions import expression
from dokimon.core.files import bytes_of_file, text_of

_LARGEST_COMMIT = 256 * 1024
_MOST_COMMITS = 20_000
_MOST_SECONDS = 0.15
"""Spent on one history at most: what is beyond is not known."""
_DEEPEST_DELTA = 50
_LARGEST_PACK_INDEX = 64 * 1024 * 1024

_PARENT = expression(rb"^parent ([0-9a-f]{40})$", re.MULTILINE)
_REMOTE = expression(r'^\[remote "origin"\][^\[]*?^\s*url\s*=\s*(\S+)', re.MULTILINE)


def first_commit(root: Path) -> str | None:
    """Return the first commit of the line of first parents that the checkout at `root` stands on.

    None where it is in no repository, where the history is cut off (a shallow clone), or where it is too long.
    """
    history = _History.of(root)
    if history is None:
        return None
    commit = None
    for commit in history.line():  # noqa: B007 (its last one is wanted)
        pass
    return commit if history.complete else None


def commits_since(root: Path, old: str) -> int | None:
    """Return how many commits of the line of first parents came after the commit `old`; None where that is not on it."""
    history = _History.of(root)
    if history is None:
        return None
    for number, commit in enumerate(history.line()):
        if commit == old:
            return number
    return None


def remote_of(root: Path) -> str | None:
    """Return the address of the remote `origin`, less a name and password in it."""
    folder = git_folder(root)
    if folder is None:
        return None
    found = _REMOTE.search(text_of(common_folder(folder) / "config", 256 * 1024))
    return re.sub(r"//[^/@\s]*@", "//", found[1]).removesuffix("/").removesuffix(".git") if found else None


class _History:
    """The commits from HEAD backward; `complete` once the very first was reached."""

    def __init__(self, head: str, objects: Path, shallow: frozenset[str]) -> None:
        self._head, self._objects, self._shallow = head, objects, shallow
        self._packs: list[_Pack] | None = None
        self.complete = False

    @classmethod
    def of(cls, root: Path) -> _History | None:
        folder = git_folder(root)
        head = head_of(folder)[0] if folder else None
        if folder is None or head is None or len(head) != 40:
            return None
        common = common_folder(folder)
        return cls(head, common / "objects", frozenset(text_of(common / "shallow").split()))

    def line(self) -> Iterator[str]:
        """Yield the commits of the line of first parents, the newest first."""
        until = time.monotonic() + _MOST_SECONDS
        commit: str | None = self._head
        for _ in range(_MOST_COMMITS):
            if commit is None or time.monotonic() > until:
                return
            yield commit
            content = self._content(commit)
            if content is None or commit in self._shallow:
                return
            parent = _PARENT.search(content.partition(b"\n\n")[0])
            self.complete = parent is None
            commit = parent[1].decode() if parent else None

    def _content(self, commit: str) -> bytes | None:
        """Return the content of a commit: a file of its own (gitformat-loose), or in a pack."""
        try:
            packed = bytes_of_file(self._objects / commit[:2] / commit[2:], _LARGEST_COMMIT)
            return zlib.decompressobj().decompress(packed, _LARGEST_COMMIT).partition(b"\0")[2]
        except (OSError, zlib.error):
            pass
        if self._packs is None:
            self._packs = [_Pack(path) for path in sorted((self._objects / "pack").glob("*.idx"))[:200]]
        for pack in self._packs:
            try:
                if content := pack.content(bytes.fromhex(commit)):
                    return content
            except (OSError, ValueError, IndexError, zlib.error):
                continue
        return None


class _Object(NamedTuple):
    """An object as a pack has it: its kind, its size, where its compressed content begins, and what it is a delta of."""

    kind: int
    at: int
    base: int | bytes | None


_COMMIT_KIND, _OFFSET_DELTA, _REFERENCE_DELTA = 1, 6, 7


class _Pack:
    """One pack and its index (gitformat-pack(5), version 2 of the index)."""

    def __init__(self, index: Path) -> None:
        self._path = index
        self._index: bytes | None = None
        self._file: memoryview | None = None

    def content(self, digest: bytes) -> bytes | None:
        """Return the content of a commit, or None where it is not in this pack; raises `ValueError` and the like."""
        at = self._offset(digest)
        return None if at is None else self._at(at, 0)

    def _offset(self, digest: bytes) -> int | None:
        if self._index is None:
            self._index = bytes_of_file(self._path, _LARGEST_PACK_INDEX)
        index = self._index
        if index[:8] != b"\xfftOc\0\0\0\2":
            return None
        fan, names = 8, 8 + 1024
        low = self._number(fan + 4 * (digest[0] - 1)) if digest[0] else 0
        high = self._number(fan + 4 * digest[0])
        count = self._number(fan + 4 * 255)
        while low < high:
            middle = (low + high) // 2
            found = index[names + 20 * middle : names + 20 * middle + 20]
            if found == digest:
                small = self._number(names + 24 * count + 4 * middle)
                if not small & 0x80000000:
                    return small
                large = names + 28 * count + 8 * (small & 0x7FFFFFFF)
                return int.from_bytes(index[large : large + 8], "big")
            low, high = (middle + 1, high) if found < digest else (low, middle)
        return None

    def _number(self, at: int) -> int:
        assert self._index is not None
        return int.from_bytes(self._index[at : at + 4], "big")

    def _at(self, at: int, depth: int) -> bytes:
        if depth > _DEEPEST_DELTA:
            raise ValueError("deltas of deltas without an end")
        found = self._object(at)
        content = self._unpacked(found.at)
        if found.base is None:
            return content if found.kind == _COMMIT_KIND else b""
        base = found.base if isinstance(found.base, int) else self._offset(found.base)
        if base is None:
            raise ValueError("a delta of what is not here")
        return _patched(self._at(base, depth + 1), content)

    def _object(self, at: int) -> _Object:
        data = self._mapped()
        start, byte = at, data[at]
        kind = byte >> 4 & 7
        at += 1
        while byte & 0x80:
            byte = data[at]
            at += 1
        if kind == _OFFSET_DELTA:
            byte = data[at]
            back = byte & 0x7F
            at += 1
            while byte & 0x80:
                byte = data[at]
                back = ((back + 1) << 7) | (byte & 0x7F)
                at += 1
            if not 0 < back <= start:
                raise ValueError("a delta of what is not before it")
            return _Object(kind, at, start - back)
        if kind == _REFERENCE_DELTA:
            return _Object(kind, at + 20, bytes(data[at : at + 20]))
        return _Object(kind, at, None)

    def _unpacked(self, at: int) -> bytes:
        return zlib.decompressobj().decompress(self._mapped()[at : at + _LARGEST_COMMIT], _LARGEST_COMMIT)

    def _mapped(self) -> memoryview:
        if self._file is None:
            import mmap

            with self._path.with_suffix(".pack").open("rb") as file:
                self._file = memoryview(mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ))
        return self._file


def _patched(base: bytes, delta: bytes) -> bytes:
    """Return what a delta makes of its base (gitformat-pack(5), deltified representation)."""
    at = 0
    for _ in range(2):  # the sizes of both, which the pieces say again
        while delta[at] & 0x80:
            at += 1
        at += 1
    made = bytearray()
    while at < len(delta) and len(made) <= _LARGEST_COMMIT:
        what = delta[at]
        at += 1
        if not what & 0x80:
            made += delta[at : at + what]
            at += what
            continue
        numbers = [0, 0]
        for bit in range(7):
            if what & 1 << bit:
                which, place = divmod(bit, 4)
                numbers[which] |= delta[at] << 8 * place
                at += 1
        offset, size = numbers[0], numbers[1] or 0x10000
        made += base[offset : offset + size]
    return bytes(made)
