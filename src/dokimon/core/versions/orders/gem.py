"""The order of RubyGems (`Gem::Version`): a part with letters makes a pre-release and sorts before every number."""

import re
from functools import cmp_to_key
from typing import Any

from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.orders import Order

VERSION = r"[0-9]+(?:\.[0-9a-zA-Z]+)*(?:-[0-9A-Za-z-]+(?:\.[0-9A-Za-z-]+)*)?"

Segments = tuple[int | str, ...]


def segments(text: str) -> Segments:
    """Return the parts of a version; raises `VersionFault`. A dash stands for `.pre.`."""
    if not re.fullmatch(VERSION, text.strip()):
        raise VersionFault(text, 0, "is not a version as RubyGems writes it")
    parts = re.findall(r"[0-9]+|[a-zA-Z]+", text.strip().replace("-", ".pre."))
    return tuple(int(part) if part.isdecimal() else part for part in parts)


def _compare(left: Segments, right: Segments) -> int:
    for index in range(max(len(left), len(right))):
        mine = left[index] if index < len(left) else 0
        theirs = right[index] if index < len(right) else 0
        if mine == theirs:
            continue
        if isinstance(mine, str) != isinstance(theirs, str):
            return -1 if isinstance(mine, str) else 1
        return -1 if mine < theirs else 1  # type: ignore[operator]  # both are of one type, as the line above made sure
    return 0


_key = cmp_to_key(_compare)


def key_of(parts: Segments) -> Any:
    """Return the sort key of a version in parts; zeros at the end of its numbers, or of the rest, count for nothing."""
    first = next((index for index, part in enumerate(parts) if isinstance(part, str)), len(parts))
    return _key((*_without_zeros(parts[:first]), *_without_zeros(parts[first:])))


def _without_zeros(parts: Segments) -> Segments:
    while parts and parts[-1] == 0:
        parts = parts[:-1]
    return parts


GEM = Order("gem", lambda text: key_of(segments(text)))
