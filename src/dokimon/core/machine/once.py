"""What is looked up once in a call that looks at this machine for many checkouts: what does not depend on the checkout."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from typing import Any, TypeVar

_Found = TypeVar("_Found")


class Once:
    """Remembers what was found out, for surveys with one environment. The machine is taken not to change meanwhile."""

    def __init__(self) -> None:
        self._found: dict[Hashable, Any] = {}

    def find(self, key: Hashable, find: Callable[[], _Found]) -> _Found:
        """Return what `find` returns, called the first time that somebody asks for the key."""
        if key not in self._found:
            self._found[key] = find()
        found: _Found = self._found[key]
        return found
