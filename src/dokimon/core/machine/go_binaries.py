"""What a program that Go built says of itself: the module that it was made from, and its version.

The format is that of Go's package debug/buildinfo: a header of 32 bytes (`\\xff Go buildinf:`, the size of a pointer, flags)
and since Go 1.18 two texts, each after its length as a varint: the version of Go, and the modules.
"""

from __future__ import annotations

import mmap
import re
from pathlib import Path

_MAGIC = b"\xff Go buildinf:"
_LARGEST_FILE = 500_000_000
_LARGEST_TEXT = 1_000_000
_INLINE = 0x2


def module_of(path: Path) -> tuple[str, str | None] | None:
    """Return the main module's path and its version (None where it was built from a checkout); None for other files."""
    try:
        with path.open("rb") as file:
            if (
                file.read(4) not in (b"\x7fELF", b"\xcf\xfa\xed\xfe", b"MZ\x90\0")
                or path.stat().st_size > _LARGEST_FILE
            ):
                return None
            with mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as data:
                at = data.find(_MAGIC)
                if at < 0 or at + 32 > len(data) or not data[at + 15] & _INLINE:
                    return None
                _, after = _text(data, at + 32)
                modules, _ = _text(data, after)
    except (OSError, ValueError, IndexError):
        return None
    found = re.search(r"^mod\t(\S+)\t(\S*)", modules, re.MULTILINE) or re.search(
        r"^path\t(\S+)()", modules, re.MULTILINE
    )
    if found is None:
        return None
    version = found[2].removeprefix("v")
    return found[1], version if version and version != "(devel)" else None


def _text(data: mmap.mmap, at: int) -> tuple[str, int]:
    """Return the text at a place and the place behind it; its length stands before it as a varint (encoding/binary)."""
    length, shift = 0, 0
    while True:
        byte = data[at]
        at += 1
        length |= (byte & 0x7F) << shift
        shift += 7
        if byte < 0x80:
            break
        if shift > 35:
            raise ValueError("no length")
    if length > _LARGEST_TEXT:
        raise ValueError("too long")
    return data[at : at + length].decode("utf-8", "replace"), at + length
