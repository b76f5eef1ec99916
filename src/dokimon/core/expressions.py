"""Regular expressions of Dokimon's own, compiled when they are first used.

Compiling the hundred and more of them takes longer than most calls need for their work; few of them are used by one call.
"""

from __future__ import annotations

import re
from typing import Any, AnyStr, cast

_METHODS = ("search", "match", "fullmatch", "findall", "finditer", "split", "sub", "subn", "pattern", "flags", "groups",
    "groupindex")  # fmt: skip


def expression(pattern: AnyStr, flags: int = 0) -> re.Pattern[AnyStr]:
    """Return a regular expression that is compiled when a method of it is first asked for; `re` would take it at once."""
    return cast("re.Pattern[AnyStr]", _Late(pattern, flags))


class _Late:
    """Has the methods of a compiled expression: its own dictionary holds them from the first use on."""

    def __init__(self, pattern: str | bytes, flags: int) -> None:
        self._given = pattern, flags

    def __getattr__(self, name: str) -> Any:
        if name not in _METHODS:
            raise AttributeError(name)
        compiled: re.Pattern[Any] = re.compile(*self._given)
        self.__dict__.update({each: getattr(compiled, each) for each in _METHODS})
        return getattr(compiled, name)
