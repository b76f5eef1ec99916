"""Ways to install a tool or a component, as the catalogue knows them, that fit this machine."""

from __future__ import annotations

import re
import shlex
import tomllib
from collections.abc import Mapping
from functools import cache
from pathlib import Path
from typing import NamedTuple

from dokimon.core.declarations.requirement import ANY_VERSION, Requirement
from dokimon.core.judging.agreement import newest_line
from dokimon.core.judging.values import Machine
from dokimon.core.machine.catalogue import Recipe, Tool
from dokimon.core.machine.version_managers import is_here
from dokimon.core.report.model import Remedy
from dokimon.core.text import clean
from dokimon.core.versions.common import in_common
from dokimon.core.versions.constraint import Constraint
from dokimon.core.words import filled

_PACKAGE_MANAGERS = Path(__file__).parents[1] / "machine" / "system_packages.toml"


def ways_to_install(need: Requirement, entry: Tool, machine: Machine) -> list[Remedy]:
    """Return the ways that fit: version managers that are here, the system's packages, the ecosystem's own."""
    recipes = sorted([*_from_packages(entry, machine), *entry.remedy], key=lambda recipe: recipe.has is None)
    ways: list[Remedy] = []
    for recipe in recipes:
        part = _part_for(recipe, need)
        if part is None or not _fits(recipe, need, machine):
            continue
        words = _Words.of(need.constraint, part)
        warning = _warning(recipe, words, entry, need.constraint)
        is_new = warning is not None and not any(warning in each.say for each in ways)
        say = clean(filled(recipe.say, words.values)) + (f"; note that {warning}" if is_new else "")
        ways.append(Remedy(say=say, command=words.command(recipe)))
    return ways


def _part_for(recipe: Recipe, need: Requirement) -> str | None:
    """Return the name of the component that the recipe brings ("" where none is meant), or None where it does not fit."""
    if recipe.part is None:
        return None if need.component else ""
    found = re.fullmatch(recipe.part, need.component or "") if need.component else None
    if found is None:
        return None
    return found[1] if found.re.groups and found[1] else need.component


def _fits(recipe: Recipe, need: Requirement, machine: Machine) -> bool:
    if recipe.has and not is_here(recipe.has, machine.environment):
        return False
    kind = "a-version" if need.constraint and need.constraint.lowest else "any-version"
    return recipe.only in (None, kind)


class _Words(NamedTuple):
    """The values for braces in a recipe, and the lowest version that will do, where one is known."""

    values: Mapping[str, str]
    lowest: str | None

    @classmethod
    def of(cls, constraint: Constraint | None, part: str) -> _Words:
        lowest = constraint.lowest if constraint else None
        numbers = lowest.split(".") if lowest else []
        line = numbers[0] if numbers else _SOME_VERSION
        values = {
            "wanted": constraint.in_words if constraint else ANY_VERSION,
            "version": lowest or _SOME_VERSION,
            "line": line,
            "minor": ".".join(numbers[:2]) or line,
            "pick": (constraint.exact if constraint else None) or line,
            "part": part,
        }
        return cls(values, lowest)

    def command(self, recipe: Recipe) -> str | None:
        """Return the command, each value quoted; None where it names a version and none is known."""
        if not recipe.command or (_names_version(recipe) and not self.lowest):
            return None
        return clean(filled(recipe.command, {name: shlex.quote(value) for name, value in self.values.items()}))


_SOME_VERSION = "a version that will do"


def _names_version(recipe: Recipe) -> bool:
    return any(name in (recipe.command or "") for name in ("{version}", "{line}", "{minor}", "{pick}"))


def _warning(recipe: Recipe, words: _Words, entry: Tool, constraint: Constraint | None) -> str | None:
    """Return what one should know of the line of releases that the recipe would bring: that it gets no more fixes."""
    if not entry.lines or not words.lowest:
        return None
    if recipe.command and _names_version(recipe):
        return entry.lines.standing(words.lowest)
    common = in_common(constraint) if constraint and "{" in recipe.say else None
    # Where no maintained release line will do, the user should know before installing one.
    if common is None or newest_line(entry.lines, common):
        return None
    return entry.lines.standing(words.lowest)


@cache
def _package_managers() -> dict[str, str]:
    return tomllib.loads(_PACKAGE_MANAGERS.read_text("utf-8"))


def _from_packages(entry: Tool, machine: Machine) -> list[Recipe]:
    """The way of the first package manager that is here and has the tool. Most have one version, which may or may not do."""
    for manager, command in _package_managers().items():
        package = entry.packages.get(manager)
        if not package or not is_here(manager, machine.environment):
            continue
        say = f"install {entry.title} from this system's packages"
        unversioned = re.sub(r"@\{\w+\}", "", package)
        recipes = []
        if "{" not in unversioned:
            recipes.append(Recipe(say=say, command=command.replace("{}", unversioned), only="any-version"))
        if "{" in package:
            recipes.append(Recipe(say=say, command=command.replace("{}", package), only="a-version"))
        return recipes
    return []
