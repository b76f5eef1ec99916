"""Values that mean the same in every kind of check, by the name of their key: durations, patterns, bounds, paths."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Any

import msgspec

from dokimon.core.checks.measuring import bounds, number
from dokimon.core.checks.spec import CheckSpec
from dokimon.core.faults import Fault
from dokimon.core.measures import any_size, seconds
from dokimon.core.patterns import check_pattern

_FREE = frozenset({"headers", "form", "json", "environment"})
"""Tables that hold whatever the project wants."""

_NAMED = frozenset({"answer_headers", "holds", "elements", "take"})
"""Tables whose keys the project chooses; only what is below such a key is a table of ours."""


def value_problems(spec: CheckSpec) -> Iterator[tuple[str, str]]:
    """Yield the key and what is wrong, for each value that its key does not allow."""
    for keys, value in _leaves(msgspec.to_builtins(spec), ()):
        chosen = keys[0] in _FREE or (keys[0] in _NAMED and len(keys) == 2)
        read = None if chosen else _READERS.get(keys[-1])
        if read and isinstance(value, str):
            try:
                read(value)
            except (ValueError, Fault) as wrong:
                yield keys[0], str(wrong)


def _leaves(table: Mapping[str, Any], above: tuple[str, ...]) -> Iterator[tuple[tuple[str, ...], Any]]:
    """Yield each value in a table with the keys that lead to it."""
    for key, value in table.items():
        for each in value if isinstance(value, list) else [value]:
            if isinstance(each, dict):
                yield from _leaves(each, (*above, key))
            else:
                yield (*above, key), each


def _path(key: str) -> Callable[[str], object]:
    def read(value: str) -> None:
        if not value.startswith("/"):
            raise ValueError(f'"{key}" is a path on the run itself, such as "/"; not "{value}"')

    return read


def _version(value: str) -> None:
    from dokimon.core.versions import compiled
    from dokimon.core.versions.faults import VersionFault

    try:
        compiled("plain", value)
    except VersionFault as wrong:
        raise ValueError(f'"version" is not valid: {wrong}') from None


_READERS: dict[str, Callable[[str], object]] = {
    **dict.fromkeys(("within", "again_within", "pause", "clock"), seconds),
    **dict.fromkeys(("pattern", "printed"), check_pattern),
    "number": lambda value: bounds(value, number),
    "size": lambda value: bounds(value, any_size),
    "get": _path("get"),
    "render": _path("render"),
    "version": _version,
}
