"""Which copies of several tools are tried together."""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence

from dokimon.core.machine.survey import Installation
from dokimon.core.text import clean

Combination = tuple[Installation, ...]
"""One copy of each tool, in the order in which the tools were asked for."""


def combined(copies: Mapping[str, Sequence[Installation]], *, all_pairs: bool = False) -> list[Combination]:
    """Return what to try of the copies of each tool: each copy with the others as they are reached, or each with each."""
    lists = list(copies.values())
    if all_pairs or len(lists) == 1:
        return list(itertools.product(*lists))
    if not all(lists):
        return []
    usual = list(map(_usual, lists))
    found: dict[str, Combination] = {}
    for index, each in enumerate(lists):
        made = [(*usual[:index], copy, *usual[index + 1 :]) for copy in each]
        found |= {named(one): one for one in made}
    return list(found.values())


def named(combination: Combination) -> str:
    """Return a combination as it is named in a call: `node 20.18.0, python 3.12.1`."""
    return ", ".join(f"{copy.tool} {copy.version}" for copy in combination)


class NoSuchCombination(ValueError):
    """What was wished is not here; the text says what is."""


def wished(
    words: str, copies: Mapping[str, Sequence[Installation]], names: Mapping[str, str] | None = None
) -> Combination:
    """Return the combination that is meant by `node 20.18.0, python 3.12.1`, or by a version alone where there is one tool.

    What is not named is as it is reached; `names` are other names of the tools. Raises `NoSuchCombination`.
    """
    chosen: dict[str, Installation] = {}
    for part in words.split(","):
        tool, version = _read(part, copies, names or {})
        found = next((copy for copy in copies[tool] if copy.version == version), None)
        if found is None:
            here = ", ".join(copy.version or "?" for copy in copies[tool]) or "none"
            raise NoSuchCombination(f"there is no {tool} {clean(version, 40)} here that can be run; there is: {here}")
        chosen[tool] = found
    for tool, each in copies.items():
        if tool not in chosen and not each:
            raise NoSuchCombination(f"no {tool} is here that can be run")
    return tuple(chosen.get(tool) or _usual(each) for tool, each in copies.items())


def _usual(copies: Sequence[Installation]) -> Installation:
    """Return the copy that is reached, else the newest."""
    return next((copy for copy in copies if copy.reached), copies[-1])


def _read(part: str, copies: Mapping[str, Sequence[Installation]], names: Mapping[str, str]) -> tuple[str, str]:
    first, _, rest = part.strip().partition(" ")
    if not first:
        raise NoSuchCombination(f"it names no version; right is: {next(iter(copies))} VERSION")
    tool = names.get(first, first)
    if rest and tool in copies:
        return tool, rest.strip().removeprefix("v")
    if not rest and len(copies) == 1:
        return next(iter(copies)), first.removeprefix("v")
    listed = " and ".join(copies)
    raise NoSuchCombination(f"{clean(part, 60)!r} names no version of {listed}; right is: {next(iter(copies))} VERSION")
