"""Version orders: how one kind of version compares. Each order is a name and a function from text to a sortable key."""

from collections.abc import Callable
from typing import Any, NamedTuple


class Order(NamedTuple):
    """`key` turns the text of a version into a value that sorts as the version does, or raises `VersionFault`."""

    name: str
    key: Callable[[str], Any]
