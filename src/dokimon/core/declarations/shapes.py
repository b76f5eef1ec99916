"""What kind of value each key of a manifest must have: one of another kind is told, and never silently says nothing."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from functools import cache
from typing import Any

from dokimon.core.declarations.requirement import Requirement, unreadable
from dokimon.core.reading.json_places import Keys
from dokimon.core.reading.manifest import Manifest
from dokimon.core.reading.toml_lines import toml_line

Shape = Mapping[str, str]
"""From the way to a value (`tool.poetry.dependencies`, `*` for any key or index) to the kinds it may be, with "or"."""

_KINDS: dict[str, tuple[type, ...]] = {
    "table": (dict,),
    "list": (list,),
    "text": (str,),
    "whole number": (int,),
    "true or false": (bool,),
}


def misfits(manifest: Manifest, data: dict[str, Any], shape: Shape, tool: str) -> list[Requirement]:
    """Return a need that could not be read, of `tool`, for each value of JSON or TOML that is not of its kind.

    What is not there, or null, has no kind.
    """
    found = []
    wrong: list[Keys] = []
    for first, ways in _by_first(tuple(shape.items())):
        if first not in data:
            continue
        for rest, kinds, types in ways:
            for keys, value in _at(data[first], rest, (first,)):
                if value is None or _is_one_of(value, types) or any(keys[: len(each)] == each for each in wrong):
                    continue
                wrong.append(keys)
                line_of = manifest.json_source(*keys).line if manifest.name.endswith("json") else None
                source = manifest.source(line_of or toml_line(manifest.text, keys))
                found.append(unreadable(tool, source, f'"{".".join(map(str, keys))}" must be {_in_words(kinds)}'))
    return found


_Way = tuple[list[str], str, tuple[type, ...]]
"""The keys below the first one, the kinds that a value may be, and the types of these."""


@cache
def _by_first(shape: tuple[tuple[str, str], ...]) -> list[tuple[str, list[_Way]]]:
    """Return a shape by the first key of its ways: a large checkout has thousands of files of the same one."""
    found: dict[str, list[_Way]] = {}
    for way, kinds in shape:
        first, _, rest = way.partition(".")
        types = tuple(each for kind, types in _KINDS.items() if kind in kinds for each in types)
        found.setdefault(first, []).append((rest.split(".") if rest else [], kinds, types))
    return list(found.items())


def _at(data: Any, way: list[str], keys: Keys) -> Iterable[tuple[Keys, Any]]:
    return _below(data, way, keys) if way else ((keys, data),)


def _below(data: Any, way: list[str], keys: Keys) -> Iterator[tuple[Keys, Any]]:
    key, rest = way[0], way[1:]
    if key == "*":
        listed = dict(enumerate(data)) if isinstance(data, list) else data
        for name, value in listed.items() if isinstance(listed, dict) else ():
            yield from _at(value, rest, (*keys, name))
    elif isinstance(data, dict) and key in data:
        yield from _at(data[key], rest, (*keys, key))


def _in_words(kinds: str) -> str:
    return re.sub(r"\b(table|list|whole number)\b", r"a \1", kinds)


def _is_one_of(value: Any, types: tuple[type, ...]) -> bool:
    return bool in types if isinstance(value, bool) else isinstance(value, types)  # Python takes a bool for a number
