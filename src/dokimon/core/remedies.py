"""What to do next, for each finding that is not met. Dokimon never does it itself."""

from __future__ import annotations

import re
import shlex
import tomllib
from collections.abc import Sequence
from functools import cache
from pathlib import Path

from dokimon.core.agreement import newest_line
from dokimon.core.choosing import spoils, would_do
from dokimon.core.declarations.requirement import Requirement
from dokimon.core.judging import Judged, Machine, fitting_copy
from dokimon.core.machine.catalogue import Remedy as Recipe
from dokimon.core.machine.catalogue import Tool
from dokimon.core.machine.shell import put_first, shell_in_use
from dokimon.core.machine.survey import Installation
from dokimon.core.machine.version_managers import is_here
from dokimon.core.report.model import Remedy
from dokimon.core.text import clean, nearest
from dokimon.core.versions import Constraint
from dokimon.core.versions.common import in_common


def remedies(requirement: Requirement, judged: Judged, machine: Machine) -> tuple[Remedy, ...]:
    """Return what to do about a need that is not met: the nearest way first, with a command where there is one."""
    if requirement.fault:
        source = requirement.source
        return (Remedy(f"mend {source.file}, line {source.line}"),)
    if requirement.alternatives:
        return tuple(each for either in requirement.alternatives for each in remedies(either, judged, machine)[:1])
    if requirement.kind not in ("tool", "component"):
        return _beside_tools(requirement, judged)
    mended = _for_fault(judged.copy)
    reached = machine.reached(requirement.tool)
    # A shim that tells nothing has no version for this folder: that is mended by installing one.
    if judged.verdict == "unknown" and reached and not reached.shim:
        return mended or _for_unknown(requirement, reached)
    found = _other_copy(requirement, machine) if requirement.kind == "tool" else []
    entry = machine.catalogue.find(requirement.tool)
    if entry is None:
        like = nearest(requirement.tool, list(machine.catalogue.names()))
        meant = f'install it; or was "{like}" meant?' if like else "install it, or see to its folder on PATH"
        return (*mended, *found, Remedy(meant))
    # The first that fits is the machine's own way; one more leaves a choice without a catalogue to read.
    ways = _ways(requirement, entry, machine)[: 1 if found or mended else 2]
    if requirement.kind == "component" and not ways:
        ways = [Remedy(f"take another {entry.title}: its {requirement.component} must be {clean(requirement.accepts)}")]
    return (*mended, *found, *ways)


def _beside_tools(requirement: Requirement, judged: Judged) -> tuple[Remedy, ...]:
    name, source = clean(requirement.tool), requirement.source
    if requirement.kind == "variable":
        return (Remedy(f"set {name} in the environment", f"export {name}=…"),)
    if requirement.kind == "path":
        return (Remedy(f"put {name} in place, or mend {source.file}, line {source.line}"),)
    if requirement.tool in ("memory", "disk"):
        return (Remedy(f"free some {requirement.tool}, or take a machine that has {clean(requirement.wanted)}"),)
    if requirement.kind == "platform":
        return (Remedy(f"run the project on {clean(requirement.wanted)}"),)
    if judged.verdict == "unknown":
        return ()
    if judged.verdict == "unmet":
        wanted = f"{name}, {clean(requirement.accepts)},"
        return (Remedy(f"let {wanted} listen there, or mend {source.file}, line {source.line}"),)
    return (Remedy(f"start {name}"),)


def _for_fault(copy: Installation | None) -> tuple[Remedy, ...]:
    """Each reason why a file cannot be run has a remedy of its own."""
    if copy is None or copy.fault is None:
        return ()
    path = shlex.quote(copy.path)
    ways = {
        "dangling": Remedy("take the link away, or install again what it led to", f"rm {path}"),
        "no file": Remedy(f"take {copy.path} out of the way: it hides what may come after it on PATH"),
        "not executable": Remedy("let it be executed", f"chmod +x {path}"),
        "no interpreter": Remedy(f"install what {copy.path} is a script for, or the tool itself again"),
        "other architecture": Remedy("install the tool built for this machine in its place"),
        "other system": Remedy("install the tool built for this system in its place"),
        "another tool": Remedy(f"put the folder of the tool itself before {Path(copy.path).parent} on PATH"),
        "no loader": Remedy("install the tool built for this system's C library, or that library beside it"),
    }
    return (ways[copy.fault],) if copy.fault in ways else ()


def _for_unknown(requirement: Requirement, reached: Installation) -> tuple[Remedy, ...]:
    if reached.own:
        return (Remedy(f"it is the project's own: let the project install it again, or take {reached.path} off PATH"),)
    if requirement.kind == "component":
        return (Remedy(f"see by hand whether {reached.path} has {clean(requirement.component or '', 80)}"),)
    return (Remedy(f"see what it says when asked by hand; was {reached.path} installed whole?"),)


def _own(requirement: Requirement) -> list[Constraint]:
    return [requirement.constraint] if requirement.constraint else []


def _other_copy(requirement: Requirement, machine: Machine) -> list[Remedy]:
    """A copy that would do and that no command reaches is the nearest remedy: put its folder first."""
    copy = fitting_copy(requirement, machine)
    if copy is None:
        barred = next(iter(would_do(requirement.tool, machine.installations, {}, _own(requirement))), None)
        if barred is None or requirement.strength == "required":
            return []
        alone = f"{barred.path} ({barred.version}) would do for this alone"
        return [Remedy(f"{alone}, but not for what is required of {requirement.tool}")]
    if copy.other_name:
        return [Remedy(f"{copy.path} ({copy.version}) would do: call it by that name")]
    where = "is not on PATH" if copy.off_path else "comes too late on PATH"
    line = put_first([str(Path(copy.program).parent)], shell_in_use(machine.environment))
    spoiled = spoils(copy, machine.installations, machine.needed)
    mind = f"; mind that the {spoiled[0]} beside it would not do" if spoiled else ""
    return [Remedy(f"{copy.path} ({copy.version}) would do, but its folder {where}; put it first{mind}", line)]


def _ways(requirement: Requirement, entry: Tool, machine: Machine) -> Sequence[Remedy]:
    """Return the ways that fit this machine: version managers that are here, its system's packages, the ecosystem's own."""
    recipes = sorted([*_from_packages(entry, machine), *entry.remedy], key=lambda recipe: recipe.has is None)
    fitting: list[Remedy] = []
    for recipe in recipes:
        part = re.fullmatch(recipe.part, requirement.component or "") if recipe.part else None
        if bool(recipe.part) != bool(requirement.component) or (recipe.part and part is None):
            continue
        if recipe.has and not is_here(recipe.has, machine.environment):
            continue
        kind = "a-version" if requirement.constraint and requirement.constraint.lowest else "any-version"
        if recipe.only in (None, kind):
            named = part[1] if part and part.re.groups else requirement.component or ""
            made, standing = _filled(recipe, requirement, entry, named or "")
            said = any(standing and standing in each.say for each in fitting)
            say = f"{made.say}; mind that {standing}" if standing and not said else made.say
            fitting.append(Remedy(say, made.command))
    return fitting


@cache
def _package_managers() -> dict[str, str]:
    return tomllib.loads((Path(__file__).parent / "machine" / "system_packages.toml").read_text("utf-8"))


def _from_packages(entry: Tool, machine: Machine) -> list[Recipe]:
    """The way of the first package manager that is here and has the tool. Most have one version, which may or may not do."""
    for manager, command in _package_managers().items():
        package = entry.packages.get(manager)
        if package and is_here(manager, machine.environment):
            say = f"install {entry.title} from this system's packages"
            unversioned = re.sub(r"@\{\w+\}", "", package)
            made = (
                [Recipe(say, command.replace("{}", unversioned), only="any-version")] if "{" not in unversioned else []
            )
            versioned = [Recipe(say, command.replace("{}", package), only="a-version")] if "{" in package else []
            return made + versioned
    return []


def _filled(recipe: Recipe, requirement: Requirement, entry: Tool, part: str) -> tuple[Remedy, str | None]:
    """Return the remedy, and what one should know of the line that it would bring."""
    constraint = requirement.constraint
    lowest = constraint.lowest if constraint else None
    line = lowest.split(".", 1)[0] if lowest else "a version that will do"
    words = {
        "{wanted}": constraint.in_words if constraint else "any version",
        "{version}": lowest or "a version that will do",
        "{line}": line,
        "{minor}": ".".join(lowest.split(".")[:2]) if lowest else line,
        "{pick}": (constraint.exact if constraint else None) or line,
        "{part}": part,
    }

    def fill(text: str, *, quoted: bool = False) -> str:
        for name, value in words.items():
            text = text.replace(name, shlex.quote(value) if quoted else value)
        return clean(text)

    named = [name for name in ("{version}", "{line}", "{minor}", "{pick}") if name in (recipe.command or "")]
    command = fill(recipe.command, quoted=True) if recipe.command and (lowest or not named) else None
    standing = entry.lines.standing(lowest) if entry.lines and lowest and (command and named) else None
    if entry.lines and constraint and lowest and standing is None and "{" in recipe.say:
        # Where no maintained line will do, whoever installs one should know.
        common = in_common(constraint)
        standing = None if common is None or newest_line(entry.lines, common) else entry.lines.standing(lowest)
    return Remedy(fill(recipe.say), command), standing
