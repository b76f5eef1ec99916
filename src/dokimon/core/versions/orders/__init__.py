"""Version orders: how one kind of version compares. Each order is a name and a function from text to a sortable key."""

from collections.abc import Callable
from typing import Any, NamedTuple


def _as_it_is(text: str) -> str:
    return text


class Order(NamedTuple):
    """`key` turns the text of a version into a value that sorts as the version does, or raises `VersionFault`.

    `spell` gives the spelling that the plain dotted order understands (1.8.0_392 of Java is 8.0.392).
    """

    name: str
    key: Callable[[str], Any]
    spell: Callable[[str], str] = _as_it_is
