""".NET: the projects of a folder that can be run, and the port of their launch settings."""

from __future__ import annotations

import json
import re
from pathlib import Path

from dokimon.core.declarations.walking import files_near
from dokimon.core.expressions import expression
from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, PlanContext, PrepareStep, Rank, RunKind, RunPlan
from dokimon.core.planning.planners.freshness import older_than

_QUIET = {"DOTNET_CLI_TELEMETRY_OPTOUT": "1", "DOTNET_NOLOGO": "1", "DOTNET_USE_POLLING_FILE_WATCHER": "0"}
_WEB_SDK = expression(r"Sdk\s*=\s*\"Microsoft\.NET\.Sdk\.(?:Web|BlazorWebAssembly)\"")
_PROGRAM = expression(r"<OutputType>\s*(?:Win)?Exe\s*</OutputType>", re.IGNORECASE)


def plan(context: PlanContext) -> Plan | None:
    """Return the plan for the folder's projects and those one or two folders below; None where there are none."""
    found = list(files_near(context.folder, (".csproj", ".fsproj", ".vbproj"), 2))
    if not found:
        return None
    runs = [run for path in found if (run := _run(context, path))]
    steps = tuple(_build(context, run) for run in runs[:1] if run.command[0] == "mono")
    return Plan(prepare=steps, runs=tuple(runs))


_OF_THE_SDK = expression(r"<Project\b[^>]*\bSdk\s*=|<Sdk\b|<Import\b[^>]*\bSdk\s*=")
_FRAMEWORK = expression(r"<TargetFrameworkVersion>\s*v")


def _of_framework(context: PlanContext, project: Path, text: str) -> RunPlan | None:
    """A program of .NET Framework, which `dotnet` cannot start: Mono runs what MSBuild has made of it."""
    named = re.search(r"<AssemblyName>\s*([\w.+-]+)\s*</AssemblyName>", text)
    place = re.search(r"<OutputPath>\s*([\w.\\/-]+?)[\\/]?\s*</OutputPath>", text)
    name = named[1] if named else project.stem
    where = project.parent.relative_to(context.folder)
    made = (where / (place[1].replace("\\", "/") if place else "bin/Debug") / f"{name}.exe").as_posix()
    framework = _FRAMEWORK.search(text) or _PROGRAM.search(text)
    line = text.count("\n", 0, framework.start()) + 1 if framework else 1
    return RunPlan(
        rank=Rank.FRAMEWORK,
        name=project.stem,
        command=("mono", made),
        folder=context.folder,
        source=context.source(project, line),
    )


def _build(context: PlanContext, run: RunPlan) -> PrepareStep:
    project = context.root / run.source.file
    made = context.folder / run.command[1]
    where = project.relative_to(context.folder).as_posix()
    return PrepareStep(
        title="build",
        command=("msbuild", "-restore", "-verbosity:quiet", where),
        folder=context.folder,
        source=run.source,
        needed=older_than(made, [project.parent]),
        makes=(made,),
    )


def _run(context: PlanContext, project: Path) -> RunPlan | None:
    text = text_of(project)
    web = _WEB_SDK.search(text)
    program = _PROGRAM.search(text)
    if (not web and not program) or "Microsoft.NET.Test.Sdk" in text:
        return None
    if not web and not _OF_THE_SDK.search(text):
        return _of_framework(context, project, text)
    found = web or program
    line = text.count("\n", 0, found.start()) + 1 if found else 1
    where = project.relative_to(context.folder).as_posix()
    command = ("dotnet", "run", *(("--project", where) if project.parent != context.folder else ()))
    port = _port(project.parent) if web else None
    kind: RunKind = "server" if web else None
    return RunPlan(
        rank=Rank.FRAMEWORK,
        name=project.stem,
        command=command,
        folder=context.folder,
        source=context.source(project, line),
        kind=kind,
        port=port,
        environment=_QUIET,
    )


def _port(folder: Path) -> int:
    """The port of plain HTTP in the first launch profile that names one; 5000 is the framework's own."""
    try:
        profiles = json.loads(text_of(folder / "Properties/launchSettings.json").removeprefix("\ufeff") or "{}").get(
            "profiles"
        )
    except (ValueError, AttributeError):
        return 5000
    for profile in profiles.values() if isinstance(profiles, dict) else ():
        addresses = str(profile.get("applicationUrl", "")) if isinstance(profile, dict) else ""
        if found := re.search(r"http://[^:/;]{1,200}:(\d{1,5})\b", addresses):
            return int(found[1])
    return 5000
