"""Which revision of the project a checkout holds, read from git's own files: git itself may start what a checkout names."""

from __future__ import annotations

import os
import re
import stat
import struct
import zlib
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from dokimon.core.expressions import expression
from dokimon.core.files import bytes_of_file, text_of

_LONGEST_PATH = 4096
_MOST_ENTRIES = 20_000
_LARGEST_INDEX = 16 * 1024 * 1024
_MOST_HASHED = 64 * 1024 * 1024
"""Bytes of files with a new time and an old size that are hashed to see whether they changed."""

_COMMIT = expression(r"[0-9a-f]{40}(?:[0-9a-f]{24})?")
_BRANCH = "refs/heads/"


class Revision(NamedTuple):
    """The commit (None before the first), the branch (None on a commit of its own), whether tracked files are other.

    `changed` is None where git's files do not tell it.
    """

    commit: str | None
    branch: str | None
    changed: bool | None


def revision_of(root: Path) -> Revision | None:
    """Return the revision of the checkout at `root`, or None where it is in no repository of git's."""
    folder = git_folder(root)
    if folder is None:
        return None
    commit, branch = head_of(folder)
    if commit is None and not text_of(folder / "HEAD", 1000).startswith("ref: "):
        return None
    return Revision(commit, branch, _changed(root, folder, commit))


def head_of(folder: Path) -> tuple[str | None, str | None]:
    """Return the commit and the branch that git's folder `folder` says is checked out; None for what there is not."""
    head = text_of(folder / "HEAD", 1000).strip()
    if not head.startswith("ref: "):
        return (head if _COMMIT.fullmatch(head) else None), None
    name = head.removeprefix("ref: ").strip()
    return _commit_of(name, folder), name.removeprefix(_BRANCH) if name.startswith(_BRANCH) else None


def common_folder(folder: Path) -> Path:
    """Return the folder that all worktrees of a repository share (gitrepository-layout(5), `commondir`)."""
    return folder / text_of(folder / "commondir", 4096).strip()


def repository_above(folder: Path) -> Path | None:
    """Return the root of the repository of git's that holds a folder, or None."""
    return next((each for each in (folder, *folder.parents) if git_folder(each)), None)


def git_folder(root: Path) -> Path | None:
    """Return git's folder: `.git`, or the one that a file of that name leads to (gitrepository-layout(5))."""
    place = root / ".git"
    if place.is_dir():
        return place
    found = re.match(r"gitdir: (.+)", text_of(place, 4096))
    if not found:
        return None
    folder = root / found[1].strip()
    return folder if folder.is_dir() else None


def _commit_of(name: str, folder: Path) -> str | None:
    """Return the commit that a reference names: in a file of its own, or in the list of packed ones."""
    common = common_folder(folder)
    for place in dict.fromkeys((folder, common)):
        if ".." not in name and _COMMIT.fullmatch(found := text_of(place / name, 1000).strip()):
            return found
        packed = re.search(rf"^([0-9a-f]{{40,64}}) {re.escape(name)}$", text_of(place / "packed-refs"), re.MULTILINE)
        if packed:
            return packed[1]
    return None


class Entry(NamedTuple):
    """A file as the index has it: its path, its kind and mode, its time and size when it was last added, its hash."""

    path: str
    mode: int
    mtime: tuple[int, int]
    size: int
    digest: bytes
    skipped: bool


def _changed(root: Path, folder: Path, commit: str | None) -> bool | None:
    """Whether tracked files differ from what was last committed; None where that is not known."""
    try:
        if (folder / "index").stat().st_size > _LARGEST_INDEX or (commit and len(commit) != 40):
            return None
        index = bytes_of_file(folder / "index", _LARGEST_INDEX)
        entries, end = _entries(index)
        budget = _MOST_HASHED
        for entry in entries:
            differs, hashed = _differs(root, entry, budget)
            budget -= hashed
            if differs is not False:
                return differs
        return _staged(index, end, folder, commit)
    except (OSError, ValueError, IndexError, zlib.error, struct.error):
        return None


def index_entries(root: Path) -> list[Entry] | None:
    """Return the tracked files of the checkout at `root` as the index has them; None where that cannot be read."""
    folder = git_folder(root)
    try:
        return _entries(bytes_of_file(folder / "index", _LARGEST_INDEX))[0] if folder else None
    except (OSError, ValueError, IndexError, struct.error):
        return None


def _differs(root: Path, entry: Entry, budget: int) -> tuple[bool | None, int]:
    """Return whether a file is other than the index says, and how many bytes had to be read to know."""
    if entry.skipped or stat.S_IFMT(entry.mode) not in (stat.S_IFREG, stat.S_IFLNK):
        return False, 0
    path = root / entry.path
    try:
        status = path.lstat()
    except OSError:
        return True, 0
    if stat.S_IFMT(status.st_mode) != stat.S_IFMT(entry.mode) or status.st_size & 0xFFFFFFFF != entry.size:
        return True, 0
    if divmod(status.st_mtime_ns, 10**9) == entry.mtime:
        return False, 0
    if status.st_size > budget:
        return None, 0
    content = os.fsencode(path.readlink()) if path.is_symlink() else bytes_of_file(path, budget + 1)
    import hashlib  # late: it loads OpenSSL, and most files are as the index says

    digest = hashlib.sha1(b"blob %d\0" % len(content) + content, usedforsecurity=False).digest()
    return digest != entry.digest, len(content)


_OF_ENTRY = struct.Struct(">10I20sH").unpack_from


def _entries(index: bytes) -> tuple[list[Entry], int]:
    """Return the entries of an index and where they end (gitformat-index(5), versions 2 to 4)."""
    version, count = int.from_bytes(index[4:8], "big"), int.from_bytes(index[8:12], "big")
    if index[:4] != b"DIRC" or version not in (2, 3, 4) or count > _MOST_ENTRIES:
        raise ValueError("an index of another form, or too many entries")
    entries: list[Entry] = []
    at, path = 12, b""
    for _ in range(count):
        if at + 62 > len(index):
            raise ValueError("an index that is cut off")
        _, _, seconds, nanoseconds, _, _, mode, _, _, size, digest, flags = _OF_ENTRY(index, at)
        start = at + 62
        extended = 0
        if flags & 0x4000:
            extended = int.from_bytes(index[start : start + 2], "big")
            start += 2
        if version == 4:
            strip, start = _varint(index, start)
            end = index.index(b"\0", start)
            path = path[: len(path) - strip] + index[start:end]
            following = end + 1
        else:
            end = index.index(b"\0", start)
            path = index[start:end]
            following = at + (end - at + 8) // 8 * 8
        if len(path) > _LONGEST_PATH or path.startswith(b"/") or b".." in path.split(b"/"):
            raise ValueError("an index that names no files of this checkout")
        entries.append(
            Entry(
                os.fsdecode(path), mode, (seconds, nanoseconds), size, digest,
                skipped=bool(flags & 0x8000) or bool(extended & 0x4000),
            )
        )  # fmt: skip
        at = following
    return entries, at


def _varint(data: bytes, at: int) -> tuple[int, int]:
    """Return a number of variable width (gitformat-pack(5), offset encoding) and where it ends."""
    byte = data[at]
    value = byte & 0x7F
    while byte & 0x80:
        if value >> 32:
            raise ValueError("a number that no index needs")
        at += 1
        byte = data[at]
        value = ((value + 1) << 7) | (byte & 0x7F)
    return value, at + 1


def _staged(index: bytes, end: int, folder: Path, commit: str | None) -> bool | None:
    """Whether the index holds something else than the commit; None where only git itself knows."""
    tree = next((data for name, data in _extensions(index, end) if name == b"TREE"), None)
    if tree is None or commit is None:
        return None if commit else True
    counts, _, rest = tree.partition(b"\0")[2].partition(b"\n")
    if counts.startswith(b"-"):
        return None
    common = common_folder(folder)
    try:
        packed = bytes_of_file(common / "objects" / commit[:2] / commit[2:])
    except OSError:
        return False  # in a pack: nothing was committed here since it was fetched
    content = zlib.decompressobj().decompress(packed, 4096)
    found = re.search(rb"\0tree ([0-9a-f]{40})\n", content)
    return found is not None and bytes.fromhex(found[1].decode()) != rest[:20]


def _extensions(index: bytes, at: int) -> Iterator[tuple[bytes, bytes]]:
    while at + 8 <= len(index) - 20:
        size = int.from_bytes(index[at + 4 : at + 8], "big")
        yield index[at : at + 4], index[at + 8 : at + 8 + size]
        at += 8 + size
