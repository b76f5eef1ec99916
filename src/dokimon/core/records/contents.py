"""What the files of a checkout hold, as digests: git's own where its index has them, else read and hashed.

A file that kept its size and time since it was last hashed is not read again.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable, Mapping
from pathlib import Path

from dokimon.core.declarations.revision import Entry, index_entries
from dokimon.core.declarations.walking import files_below
from dokimon.core.files import bytes_of_file, text_of

MOST_FILES = 5000
_LARGEST_FILE = 1024 * 1024
_MOST_BYTES = 32 * 1024 * 1024
"""Read at most for one look: the first one of a checkout without git."""

DIGITS = 12
"""Hexadecimal digits of a digest: enough to tell one state of a file from another."""

Known = dict[str, tuple[int, int, str]]
"""Size, time in nanoseconds and digest of a file, by its path."""


def contents_of(root: Path, known: Mapping[str, tuple[int, int, str]]) -> tuple[Known, bool]:
    """Return what all files of the checkout hold that git tracks or that a person may have written, and whether that is
    all. With more than `MOST_FILES` of them nothing is returned.
    """
    tracked = index_entries(root) or []
    if len(tracked) > MOST_FILES:
        return {}, False
    found: Known = {}
    budget = [_MOST_BYTES]
    for entry in tracked:
        if stat.S_ISREG(entry.mode) and (seen := _of_entry(root, entry, known, budget)):
            found[entry.path] = seen
    others, all_there = files_below(root, MOST_FILES)
    for path, status in others.items():
        if path not in found and not _is_secret(path) and (seen := _of_file(root, path, status, known, budget)):
            found[path] = seen
    if not all_there or len(found) > MOST_FILES:
        return {}, False
    return dict(sorted(found.items())), True


def contents_of_some(root: Path, paths: Iterable[str], known: Mapping[str, tuple[int, int, str]]) -> Known:
    """Return what these files of the checkout hold; those that are not there are left out."""
    found: Known = {}
    budget = [_MOST_BYTES]
    for path in sorted(set(paths)):
        try:
            status = os.lstat(root / path)
        except (OSError, ValueError):
            continue
        if not _is_secret(path) and stat.S_ISREG(status.st_mode):
            seen = _of_file(root, path, status, known, budget)
            found |= {path: seen} if seen else {}
    return found


def _is_secret(path: str) -> bool:
    """Whether a file is one of variables: of these only names are kept, never what tells their values."""
    name = path.rpartition("/")[2]
    return name == ".env" or name.startswith(".env.")


def _of_entry(
    root: Path, entry: Entry, known: Mapping[str, tuple[int, int, str]], budget: list[int]
) -> tuple[int, int, str] | None:
    if _is_secret(entry.path):
        return None
    try:
        status = os.lstat(root / entry.path)
    except (OSError, ValueError):
        return None
    same = divmod(status.st_mtime_ns, 10**9) == entry.mtime and status.st_size & 0xFFFFFFFF == entry.size
    if same or entry.skipped:
        return status.st_size, status.st_mtime_ns, entry.digest.hex()[:DIGITS]
    return _of_file(root, entry.path, status, known, budget)


def _of_file(
    root: Path, path: str, status: os.stat_result, known: Mapping[str, tuple[int, int, str]], budget: list[int]
) -> tuple[int, int, str] | None:
    size, changed = status.st_size, status.st_mtime_ns
    before = known.get(path)
    if before and before[:2] == (size, changed):
        return before
    if size > _LARGEST_FILE or size > budget[0]:
        return size, changed, f"{size} bytes"
    budget[0] -= size
    try:
        content = bytes_of_file(root / path, _LARGEST_FILE + 1, follow=False)
    except (OSError, ValueError):
        return None
    return size, changed, _blob(content)


def _blob(content: bytes) -> str:
    """Return the digest that git gives to a file: where git's index has it, no file need be read."""
    import hashlib  # late: it loads OpenSSL, and most contents are known

    return hashlib.sha1(b"blob %d\0" % len(content) + content, usedforsecurity=False).hexdigest()[:DIGITS]


def digest_of(path: Path, limit: int) -> str | None:
    """Return the digest of one file of at most `limit` bytes, or None."""
    try:
        return _blob(bytes_of_file(path, limit))
    except OSError:
        return None


def variables_in(path: Path) -> dict[str, str]:
    """Return the variables that a `.env` file gives, with their values."""
    found = {}
    for line in text_of(path, 1 << 20).splitlines()[:2000]:
        name, equals, value = line.strip().removeprefix("export ").partition("=")
        if equals and name.strip().isidentifier():
            found[name.strip()] = value.strip().strip("\"'")
    return found
