"""Small files read without surprises: bounded, never a device, never a fault."""

from __future__ import annotations

from pathlib import Path

LARGEST_BYTES = 4 * 1024 * 1024
"""A manifest of a Rust toolchain and an archive of PHP are the largest files that are read."""


def text_of(path: Path, limit: int = LARGEST_BYTES) -> str:
    """Return the text of a file, at most `limit` bytes of it; nothing where there is none or it is no ordinary file."""
    try:
        if not path.is_file():
            return ""
        with path.open("rb") as file:
            return file.read(limit).decode("utf-8", "replace")
    except OSError:
        return ""


def inside(path: Path, root: Path) -> bool:
    """Whether a path, with the links on its way followed, is in the folder `root`."""
    try:
        return path.resolve().is_relative_to(root.resolve())
    except (OSError, RuntimeError, ValueError):
        return False
