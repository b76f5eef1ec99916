"""The order of Composer: four numbers and a stability, compared as PHP's `version_compare` compares them."""

import re

from dokimon.core.expressions import expression
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.orders import Order

MODIFIER = r"[._-]?(?:(stable|beta|b|rc|alpha|a|patch|pl|p)((?:[.-]?\d++)*+))?([.-]?dev)?"
_VERSION = expression(rf"v?(\d{{1,5}})(\.\d+)?(\.\d+)?(\.\d+)?{MODIFIER}", re.IGNORECASE)
_STABILITIES = {"a": "alpha", "b": "beta", "p": "patch", "pl": "patch", "rc": "rc"}
_RANKS = {"dev": 0, "alpha": 1, "beta": 2, "rc": 3, "patch": 5}
_NUMBER = 4

Key = tuple[tuple[int, int], ...]
_END = (_NUMBER, -1)
"""Where a version ends: below a further number or a patch, above every stability below stable."""

DEV = ((0, 0),)
"""The part that `-dev` adds: the lowest of all with the same numbers."""


def key_of(numbers: tuple[int, ...], suffix: Key = ()) -> Key:
    """Return the sort key of a version in parts; missing numbers are zeros."""
    return (*((_NUMBER, n) for n in (*numbers, 0, 0, 0, 0)[:4]), *suffix, _END)


def suffix_of(stability: str | None, numbers: str | None, dev: str | None) -> Key:
    """Return the part of a key for a stability such as `beta`, `2`, `-dev`."""
    parts: list[tuple[int, int]] = []
    word = (stability or "").lower()
    if word and word != "stable":
        parts.append((_RANKS[_STABILITIES.get(word, word)], 0))
        parts += [(_NUMBER, int(n)) for n in re.findall(r"\d+", numbers or "")]
    return (*parts, *(DEV if dev else ()))


def parse(text: str) -> Key:
    """Return the sort key of `text`; raises `VersionFault`, also for a branch, which no order knows."""
    bare = re.sub(r"\+[^\s]+$", "", text.strip())
    found = _VERSION.fullmatch(bare)
    if not found:
        branch = bare.lower().startswith("dev-")
        raise VersionFault(text, 0, "is a branch, which has no place in an order" if branch else "is not a version")
    numbers = tuple(int(n.lstrip(".")) for n in found.groups()[:4] if n)
    return key_of(numbers, suffix_of(found[5], found[6], found[7]))


COMPOSER = Order("composer", parse)
