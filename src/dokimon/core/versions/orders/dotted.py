"""The order of plain dotted versions, with the suffixes that vendors add.

Numbers compare as numbers, and 1.2 equals 1.2.0. A suffix that names a pre-release (`-rc1`, `b2`, `-ea`) sorts
before the bare version; any other (`1.1.1a`, `12.2.0-14+deb12u1`) after it. Text in brackets is left out.
"""

import re

from dokimon.core.expressions import expression
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.orders import Order

_VERSION = expression(r"v?(\d+(?:\.\d+)*)(.*)", re.DOTALL)
_PRE_RELEASE = expression(
    r"[-._~]?(?:alpha|beta|rc|pre|preview|dev|ea|snapshot|nightly|canary|next|insiders)(?![a-z])"
    r"|[-._~]?[abc](?=\d)",
    re.IGNORECASE,
)

Key = tuple[tuple[int, ...], int, tuple[tuple[int, int, str], ...]]

FIRST, PRE_RELEASE, BARE, VENDOR = -2, -1, 0, 1
"""The place of a version among those of the same numbers; FIRST is before every one of them."""


def key_of(numbers: tuple[int, ...], standing: int = BARE, suffix: str = "") -> Key:
    """Return the sort key of a version with these numbers; zeros at the end count for nothing."""
    while numbers and numbers[-1] == 0:
        numbers = numbers[:-1]
    parts = tuple((0, int(p), "") if p.isdecimal() else (1, 0, p.lower()) for p in re.findall(r"\d+|[A-Za-z]+", suffix))
    return (numbers, standing, parts)


def parse(text: str) -> Key:
    """Return the sort key of `text`; raise `VersionFault` when it does not begin with a number."""
    bare = re.sub(r"\s*\(.*", "", text.strip())
    found = _VERSION.fullmatch(bare)
    if not found:
        raise VersionFault(text, 0, "does not begin with a number")
    numbers, suffix = tuple(int(n) for n in found[1].split(".")), found[2]
    if not suffix.strip():
        return key_of(numbers)
    return key_of(numbers, PRE_RELEASE if _PRE_RELEASE.match(suffix) else VENDOR, suffix)


DOTTED = Order("dotted", parse)
