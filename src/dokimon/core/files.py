"""Small files read without surprises: bounded, never a device, never a pipe that nobody writes to."""

from __future__ import annotations

import os
import stat
from pathlib import Path

LARGEST_BYTES = 4 * 1024 * 1024
"""A manifest of a Rust toolchain and an archive of PHP are the largest files that are read."""


_FLAGS = os.O_RDONLY | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_NOCTTY", 0)
"""Not blocking: opening a pipe that nobody writes to would wait for ever. A terminal must not become this program's."""


class NotPlain(OSError):
    """What is to be read is a folder, a pipe, a socket or a device."""

    def __init__(self) -> None:
        super().__init__(None, "is not a plain file")


def bytes_of_file(path: Path | str, limit: int = LARGEST_BYTES, *, follow: bool = True) -> bytes:
    """Return the beginning of a plain file, at most `limit` bytes. Raises `OSError`, and `NotPlain` among them.

    With `follow` false, a link is an `OSError` too.
    """
    descriptor = os.open(path, _FLAGS | (0 if follow else getattr(os, "O_NOFOLLOW", 0)))
    try:
        status = os.fstat(descriptor)
        if not stat.S_ISREG(status.st_mode):
            raise NotPlain
        # The size that is told spares a second call: less than was asked for is all. Files of /proc tell none.
        wanted = min(status.st_size + 1, limit)
        content = os.read(descriptor, wanted)
        if status.st_size and len(content) < wanted:
            return content
        while content and len(content) < limit and (chunk := os.read(descriptor, limit - len(content))):
            content += chunk
        return content
    finally:
        os.close(descriptor)


def text_of(path: Path, limit: int = LARGEST_BYTES) -> str:
    """Return the text of a file, at most `limit` bytes of it; nothing where there is none or it is not a plain file."""
    try:
        return bytes_of_file(path, limit).decode("utf-8", "replace")
    except (OSError, ValueError):
        return ""


def make_for_oneself(folder: Path) -> None:
    """Make a folder, and those above it that are missing, for this user alone; raises `OSError`."""
    if not folder.is_dir():
        make_for_oneself(folder.parent)
        folder.mkdir(mode=0o700, exist_ok=True)


def write_for_oneself(path: Path, content: bytes) -> None:
    """Write a new file that nobody else may read or write; raises `OSError`."""
    with os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "wb") as file:
        file.write(content)


def is_ones_own(path: Path) -> bool:
    """Whether a file or folder is this user's, and nobody else may write to it."""
    try:
        status = path.stat()
    except OSError:
        return False
    return not hasattr(os, "getuid") or (status.st_uid == os.getuid() and not status.st_mode & 0o022)


def inside(path: Path, root: Path) -> bool:
    """Whether a path, with the links on its way followed, is in the folder `root`."""
    try:
        return path.resolve().is_relative_to(root.resolve())
    except (OSError, RuntimeError, ValueError):
        return False


def replace_for_oneself(path: Path, content: bytes) -> None:
    """Write a file anew in one step, its folder made where it is not there: a reader sees the old one or the new one.

    Raises `OSError`.
    """
    make_for_oneself(path.parent)
    beside = path.with_name(f"{path.name}.{os.getpid()}")
    write_for_oneself(beside, content)
    beside.replace(path)
