"""`dokimon tools`: the machine by itself."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence

from dokimon.core.declarations.subjects import ToolSubject
from dokimon.core.jobs.needs import requirements_of
from dokimon.core.jobs.workspace import Workspace, notes_on_homes, surveyor_for
from dokimon.core.judging.findings import judge
from dokimon.core.judging.reaching import answer_for
from dokimon.core.judging.values import Machine
from dokimon.core.machine.catalogue import Tool
from dokimon.core.machine.system import this_system
from dokimon.core.machine.version_managers import given_by_shells
from dokimon.core.report.model import FORMAT, FORMAT_MINOR, Finding, Project, Report
from dokimon.core.report.outcome import verdict_of_tools
from dokimon.core.text import clean


def tools_report(
    workspace: Workspace,
    names: Collection[str],
    environment: Mapping[str, str],
    *,
    asked: Sequence[str],
    with_parts: bool,
    fresh: bool,
) -> Report:
    """Return the report of `dokimon tools`: the copies of each tool, asked for the folder of the workspace.

    `asked` are those of the names, tools or any commands, that somebody asked about: it is said why one is not reached, and
    what the project wants of it. With `with_parts` their components are included. Nothing inside the checkout is run. Raises
    `CatalogueFault`.
    """
    root, here = workspace.checkout.root, workspace.start
    entries = [entry for name in names if (entry := workspace.catalogue.find(name))]
    parts_of = [entry.name for entry in entries if entry.part] if with_parts else []
    survey = surveyor_for(workspace, here, environment, fresh=fresh).survey(names, parts_of)
    missing = [entry for entry in entries if not survey.installations[entry.name]]
    machine = Machine(
        installations=survey.installations,
        environment=environment,
        root=root,
        catalogue=workspace.catalogue,
        components=survey.components,
    )
    there = {name for name, copies in survey.installations.items() if copies} | {
        each.tool for each in survey.components
    }
    return Report(
        format=FORMAT,
        minor=FORMAT_MINOR,
        command="tools",
        verdict=verdict_of_tools(asked, there),
        project=Project(root=clean(str(root)), name=clean(root.name or str(root), 80)),
        requirements=_wanted(workspace, asked, machine) if asked else (),
        answers=tuple(answer for name in dict.fromkeys(asked) if (answer := answer_for(name, machine))),
        installations=tuple(copy for copies in survey.installations.values() for copy in copies),
        components=survey.components,
        system=this_system(here),
        notes=(
            *map(clean, survey.notes),
            *notes_on_homes(entries, survey, environment),
            *_notes_on_shells(missing, environment),
            *_notes_on_aliases(
                [entry for entry in entries if entry.name in asked and entry not in missing], environment
            ),
        ),
    )


def _wanted(workspace: Workspace, asked: Sequence[str], machine: Machine) -> tuple[Finding, ...]:
    """Return what the project wants of the tools that were asked about, compared with what is here."""
    found = [
        need
        for need in requirements_of(workspace)
        if isinstance(need.subject, ToolSubject) and need.tool in asked and not need.fault
    ]
    return judge(found, (), [machine] * len(found)) if found else ()


def _notes_on_shells(missing: Iterable[Tool], environment: Mapping[str, str]) -> list[str]:
    """Say of which of the tools that were not found interactive shells know more."""
    given = [one for tool in missing for command in tool.commands if (one := given_by_shells(command, environment))]
    return list(dict.fromkeys(clean(f"{one.file}:{one.line} {one.how}, in interactive shells only") for one in given))


def _notes_on_aliases(there: Iterable[Tool], environment: Mapping[str, str]) -> list[str]:
    """Say where interactive shells mean something else by the name of a tool that is there: programs do not."""
    given = [one for tool in there for command in tool.commands if (one := given_by_shells(command, environment))]
    hiding = [one for one in given if one.how.startswith("makes ")]
    return [clean(f"{one.file}:{one.line} {one.how}: interactive shells start that, programs do not") for one in hiding]
