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
from dokimon.core.machine.debian_packages import candidates
from dokimon.core.machine.folders import system_root
from dokimon.core.machine.survey import Installation
from dokimon.core.machine.version_managers import is_here, managers
from dokimon.core.report.model import Remedy
from dokimon.core.text import clean
from dokimon.core.versions.common import in_common
from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.faults import VersionFault
from dokimon.core.words import filled

_PACKAGE_MANAGERS = Path(__file__).parents[1] / "machine" / "system_packages.toml"


def ways_to_install(need: Requirement, entry: Tool, machine: Machine) -> list[Remedy]:
    """Return the ways that fit: version managers that are here, the system's packages, the ecosystem's own."""
    recipes = [*_from_packages(entry, machine), *entry.remedy]
    mine = _manager_of_reached(entry, machine)
    # The manager that has the copy which is reached comes first; another one would not change what is reached.
    recipes.sort(key=lambda recipe: (recipe.has is None, recipe.has != mine))
    ways: list[Remedy] = []
    for recipe in recipes:
        part = _part_for(recipe, need)
        if part is None or not _fits(recipe, need, machine, mine):
            continue
        words = _Words.of(need.constraint, part, machine.reached(need.tool))
        if recipe.whole and words.pick.count(".") < 2:
            continue
        command = words.command(recipe) or ""
        if not _can_be_had(command, need, machine):
            continue
        if machine.reached(need.tool) is None and need.component and command.split(" ")[0] in entry.commands:
            continue  # it is the tool itself that is missing
        warning = _warning(recipe, words, entry, need.constraint)
        is_new = warning is not None and not any(warning in each.say for each in ways)
        told = clean(filled(recipe.say, words.values)).replace(f", {ANY_VERSION},", "")
        if any(each.say.partition(";")[0] == told for each in ways):
            continue  # another name of the same way
        say = f"{told}; note that {warning}" if is_new else told
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


def _manager_of_reached(entry: Tool, machine: Machine) -> str | None:
    """Return the version manager whose shim is reached, or in whose folder the copy lies."""
    reached = machine.reached(entry.name)
    if reached is None:
        return None
    folders = ((name, root) for name, known in managers().items() for root in known.roots_here(machine.environment))
    return reached.shim or next((name for name, root in folders if Path(reached.program).is_relative_to(root)), None)


def _fits(recipe: Recipe, need: Requirement, machine: Machine, mine: str | None) -> bool:
    if recipe.has and not is_here(recipe.has, machine.environment):
        return False
    if recipe.has in managers() and mine in managers() and recipe.has != mine:
        return False
    lowest = need.constraint.lowest if need.constraint else None
    if recipe.lines and (lowest or "").partition(".")[0] not in recipe.lines:
        return False
    reached = machine.reached(need.tool)
    if need.component and recipe.has in _package_managers() and reached and _is_ones_own(reached, mine, machine):
        return False  # the system's packages bring nothing to a copy of a version manager
    if recipe.has in ("pip", "pip3") and _is_managed_elsewhere(machine):
        return False
    kind = "a-version" if need.constraint and need.constraint.lowest else "any-version"
    return recipe.only in (None, kind)


def _is_ones_own(copy: Installation, manager: str | None, machine: Machine) -> bool:
    home = machine.environment.get("HOME")
    return manager is not None or bool(home and Path(copy.program).is_relative_to(home))


def _is_managed_elsewhere(machine: Machine) -> bool:
    """Whether pip refuses to install, as the system's Python says (PEP 668)."""
    python = machine.reached("python")
    if machine.environment.get("VIRTUAL_ENV"):
        return False
    lib = Path(python.program).resolve().parent.parent / "lib" if python else Path("/usr/lib")
    return any(lib.glob("python3*/EXTERNALLY-MANAGED"))


def _can_be_had(command: str | None, need: Requirement, machine: Machine) -> bool:
    """Whether this system's packages have what a command installs, in a version that is accepted; True where not known."""
    asked = re.fullmatch(r"sudo apt-get install (.+)", command or "")
    if asked is None:
        return True
    names = asked[1].split()
    known = candidates(names, machine.environment, system_root(machine.environment), machine.root)
    if known is None:
        return True
    if any(name not in known for name in names):
        return False
    version = known[names[0]]
    if need.component or need.constraint is None or not re.match(r"\d+\.\d", version):
        return True
    try:
        return need.constraint.admits(re.match(r"[\d.]+", version)[0].rstrip("."))  # type: ignore[index]
    except VersionFault:
        return True


class _Words(NamedTuple):
    """The values for braces in a recipe, and the lowest version that will do, where one is known."""

    values: Mapping[str, str]
    lowest: str | None

    @classmethod
    def of(cls, constraint: Constraint | None, part: str, reached: Installation | None) -> _Words:
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
            "here": ".".join((reached.version or "").split(".")[:2]) if reached else "",
        }
        return cls(values, lowest)

    @property
    def pick(self) -> str:
        """The only version that will do, else its line."""
        return self.values["pick"]

    def command(self, recipe: Recipe) -> str | None:
        """Return the command, each value quoted; None where it names a version and none is known."""
        if not recipe.command or (_names_version(recipe) and not self.lowest):
            return None
        if "{here}" in recipe.command and not self.values["here"]:
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


def _is_known(package: str, machine: Machine) -> bool:
    return bool(candidates(package.split(), machine.environment, system_root(machine.environment), machine.root))


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
            # What is known to have one version alone may be the right one; of the others only what any version meets.
            only = None if manager == "apt-get" and _is_known(unversioned, machine) else "any-version"
            recipes.append(Recipe(say=say, command=command.replace("{}", unversioned), only=only))
        if "{" in package:
            recipes.append(Recipe(say=say, command=command.replace("{}", package), only="a-version"))
        return recipes
    return []
