"""What kind of value each key of a manifest must have: one of another kind is told, and never silently says nothing."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
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
    for first, ways in _by_first(tuple(shape.items())).items():
        if first not in data:
            continue
        for keys, value, kinds in ((*each, kinds) for rest, kinds in ways for each in _at(data[first], rest, (first,))):
            below_wrong = any(keys[: len(each)] == each for each in wrong)
            if value is not None and not below_wrong and not _is_one_of(value, kinds):
                wrong.append(keys)
                line_of = manifest.json_source(*keys).line if manifest.name.endswith("json") else None
                source = manifest.source(line_of or toml_line(manifest.text, keys))
                found.append(unreadable(tool, source, f'"{".".join(map(str, keys))}" must be {_in_words(kinds)}'))
    return found


@cache
def _by_first(shape: tuple[tuple[str, str], ...]) -> dict[str, list[tuple[list[str], str]]]:
    """Return a shape by the first key of its ways: a large checkout has thousands of files of the same one."""
    found: dict[str, list[tuple[list[str], str]]] = {}
    for way, kinds in shape:
        first, _, rest = way.partition(".")
        found.setdefault(first, []).append((rest.split(".") if rest else [], kinds))
    return found


def _at(data: Any, way: list[str], keys: Keys) -> Iterator[tuple[Keys, Any]]:
    if not way:
        yield keys, data
        return
    key, rest = way[0], way[1:]
    if key == "*":
        listed = dict(enumerate(data)) if isinstance(data, list) else data
        for name, value in listed.items() if isinstance(listed, dict) else ():
            yield from _at(value, rest, (*keys, name))
    elif isinstance(data, dict) and key in data:
        yield from _at(data[key], rest, (*keys, key))


def _in_words(kinds: str) -> str:
    return re.sub(r"\b(table|list|whole number)\b", r"a \1", kinds)


def _is_one_of(value: Any, kinds: str) -> bool:
    if isinstance(value, bool):  # which Python takes for a number
        return "true or false" in kinds
    return any(isinstance(value, types) for kind, types in _KINDS.items() if kind in kinds)
