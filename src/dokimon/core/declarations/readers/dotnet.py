""".NET: `global.json`, project files and `Directory.Build.props`, local tools, solutions."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

from dokimon.core.declarations.global_json import HOST, read_text
from dokimon.core.declarations.msbuild.evaluating import is_of_an_sdk
from dokimon.core.declarations.msbuild.expressions import framework_parts, is_known
from dokimon.core.declarations.msbuild.project import MsProject, project_of
from dokimon.core.declarations.msbuild.starting import roll_forward_policies
from dokimon.core.declarations.requirement import (
    Requirement,
    any_version,
    beside_others,
    brought,
    platform_need,
    requirement,
    unreadable,
)
from dokimon.core.declarations.shapes import misfits
from dokimon.core.declarations.solutions import ENDINGS, all_projects_named, projects_named
from dokimon.core.reading.manifest import Manifest, ManifestFault, as_json, open_manifest
from dokimon.core.reading.xml import as_xml
from dokimon.core.source import Source
from dokimon.core.versions.languages import runtime_rollforward, sdk_rollforward

_GLOBAL = {"sdk": "table", "sdk.version": "text", "sdk.rollForward": "text", "sdk.allowPrerelease": "true or false"}
_TOOLS = {
    "version": "whole number", "isRoot": "true or false", "tools": "table", "tools.*": "table",
    "tools.*.version": "text", "tools.*.commands": "list", "tools.*.rollForward": "true or false",
}  # fmt: skip


def read_global(manifest: Manifest) -> list[Requirement]:
    """Read which SDK is taken in the folder and below it; a file that says nothing ends what one above it says."""
    asked = read_text(manifest.text)
    if wrong := misfits(manifest, as_json(manifest, comments=True), _GLOBAL, "dotnet"):
        return wrong
    source = manifest.json_source("sdk", "version") if asked.wanted else manifest.source(1)
    if asked.ignored:
        why = f"the .NET host passes the file over and takes the newest SDK: {asked.ignored}"
        return [any_version("dotnet", source, why, component="sdk")]
    if asked.wanted is None:
        return [brought(any_version("dotnet", source, "it names no version of the SDK", component="sdk"))]
    why, component = asked.says or "", "sdk"
    for place in asked.paths or ():
        if place == HOST:
            component = "sdk"
            break
        here = _sdks_in(manifest.path.parent / place, manifest.root)
        if taken := sdk_rollforward.taken(asked.wanted, here):
            need = requirement(
                "dotnet", asked.wanted, "sdk-rollforward", source, component="sdk", why=f"{place} has {taken}"
            )
            return [brought(need)]
        component = f"sdk in {place}"
    if not asked.version:
        return [any_version("dotnet", source, why or f"any SDK will do ({asked.wanted})", component=component)]
    return [requirement("dotnet", asked.wanted, "sdk-rollforward", source, component=component, why=why or None)]


def _sdks_in(folder: Path, root: Path) -> list[str]:
    """Return the SDKs in a folder of the checkout."""
    if "\0" in str(folder) or not folder.resolve().is_relative_to(root):
        return []
    found = (path.parent.name for path in folder.glob("sdk/*/dotnet.dll"))
    return [name for name in found if sdk_rollforward.is_version(name)]


_SDK_OF_LANGUAGE = {
    ".csproj": {"14": "10.0", "13": "9.0", "12": "8.0", "11": "7.0", "10": "6.0", "9": "5.0", "8": "3.0"},
    ".fsproj": {"10": "10.0", "9": "9.0", "8": "8.0", "7": "7.0", "6": "6.0", "5": "5.0", "4.7": "3.0"},
    ".vbproj": {"17.13": "9.0", "16.9": "5.0", "16": "3.0"},
}
"""The first SDK that compiles a version of C#, F# or Visual Basic (learn.microsoft.com, "language versioning")."""

_ON_WINDOWS = {"usewpf": "WPF", "usewindowsforms": "Windows Forms", "usewinui": "WinUI"}
_SYSTEM_OF = {"macos": "macos", "maccatalyst": "macos", "ios": "macos", "tvos": "macos"}
_WORKLOADS = ("android", "ios", "maccatalyst", "macos", "tvos", "tizen")
_NATIVE_WASM = ("wasmbuildnative", "runaotcompilation")


class _Build(NamedTuple):
    """A project as it is built for one target framework: its moniker, identifier, version and platform."""

    project: MsProject
    moniker: str
    kind: str
    version: str
    platform: str


def read_project(manifest: Manifest) -> list[Requirement]:
    """Read the target frameworks, which runtimes they run on, and whether the project needs one system.

    Of several target frameworks each has a runtime of its own, side by side; a system is needed where each of them needs
    it. Libraries run nowhere by themselves. What lies around projects (`Directory.Build.props`) asks for nothing by itself.
    """
    project = project_of(manifest)
    if project is None or manifest.path.suffix not in ENDINGS:
        return []
    if not project.frameworks and (project.sdks or not project.settings):
        return [any_version("dotnet", manifest.source(project.line), component="sdk")]
    source = _source(project, project.named_in())
    found: dict[tuple[str, str | None, str], Requirement] = {}

    def add(needs: Iterable[Requirement]) -> None:
        for need in needs:
            found.setdefault((need.tool, need.component, need.wanted), need)

    builds = []
    for moniker in project.frameworks or ("net40",):  # an old project: what the .NET Framework of its time was
        one = project_of(manifest, moniker) if len(project.frameworks) > 1 else project
        build = _Build(one or project, moniker, *framework_parts(moniker))
        builds.append(build)
        add(_of_framework(build, source))
    if system := _only_system(builds):
        what, name = system
        add([platform_need([name], source, what)])
    add(_of_workloads(builds[0].project, source))
    add(_of_language(builds[0].project))
    return list(found.values())


def _source(project: MsProject, name: str) -> Source:
    """Return where the project file sets a property; the file itself where that is done around it."""
    setting = project.settings.get(name)
    return project.manifest.source(setting.line if setting and setting.manifest is project.manifest else 1)


def _of_framework(build: _Build, source: Source) -> Iterator[Requirement]:
    """Yield what a target framework moniker asks for (learn.microsoft.com, "Target frameworks")."""
    moniker, project = build.moniker, build.project
    if not is_known(moniker):
        yield unreadable("dotnet", source, f"{moniker} is worked out by the SDK, which is not run here")
        return
    if build.kind in (".NETStandard", ".NETFramework"):
        if project.sdks:
            yield any_version("dotnet", source, f"it builds {moniker}", component="sdk")
        return
    if not build.kind:
        yield unreadable("dotnet", source, f"{moniker!r} is not a target framework that is known here")
        return
    yield requirement("dotnet", f">={build.version}", "plain", source, component="sdk", why=f"it builds {moniker}")
    if build.platform in _WORKLOADS:
        if not project.says("usemaui"):
            yield any_version("dotnet", source, f"it builds {moniker}", component=f"workload {build.platform}")
        return
    if not _runs(project) or project.says("selfcontained"):
        return
    wanted, where = _runtime_of(build, source)
    why = f"{moniker} runs on it"
    yield beside_others(requirement("dotnet", wanted, "runtime-rollforward", where, component="runtime", why=why))
    if _is_web(project) or "Microsoft.AspNetCore.App" in project.shared:
        why = f"{moniker} runs on it: a web project"
        yield beside_others(
            requirement("dotnet", wanted, "runtime-rollforward", where, component="aspnetcore", why=why)
        )


def _is_web(project: MsProject) -> bool:
    return any(sdk.startswith("Microsoft.NET.Sdk.Web") for sdk in project.sdks)


def _runs(project: MsProject) -> bool:
    """Whether the project is started, and no library: a program, a service, or tests."""
    is_program = project.value("outputtype").lower() in ("exe", "winexe")
    return is_program or project.says("istestproject") or "microsoft.net.test.sdk" in project.packages


def _runtime_of(build: _Build, source: Source) -> tuple[str, Source]:
    """Return the runtime that a program asks the host for, in `runtime-rollforward`, and what says so.

    The version is of the target framework unless `RuntimeFrameworkVersion` names it; the policy is the project's, its
    `runtimeconfig.template.json`'s, or the launch profile's, the last of these first.
    """
    project = build.project
    version = build.version + ".0"
    if project.value("runtimeframeworkversion"):
        named = project.value("runtimeframeworkversion")
        if sdk_rollforward.is_version(named):
            version, source = named, _source(project, "runtimeframeworkversion")
    folder, root = project.path.parent, project.manifest.root
    policies = [*roll_forward_policies(folder, root), project.value("rollforward")]
    policy = next((found for each in policies if (found := runtime_rollforward.policy_named(each))), "")
    return f"{version} {policy}".strip() if policy != runtime_rollforward.DEFAULT else version, source


def _only_system(builds: Sequence[_Build]) -> tuple[str, str] | None:
    """Return why the project needs one system, and which; None where some target framework goes without it."""
    found = [_system_of(build) for build in builds]
    first = found[0]
    return first if first and all(each and each[1] == first[1] for each in found) else None


def _system_of(build: _Build) -> tuple[str, str] | None:
    project, moniker = build.project, build.moniker
    if build.kind == ".NETFramework":
        runs_here = project.sdks and not _runs(project)  # the SDK builds libraries of it anywhere
        return None if runs_here else (f"the .NET Framework ({moniker}) runs on Windows only", "windows")
    if system := _SYSTEM_OF.get(build.platform):
        return f"{moniker} is built for it", system
    targets = build.platform in ("windows", "") and not project.says("enablewindowstargeting")
    for name, what in _ON_WINDOWS.items():
        if targets and project.says(name):
            return f"{what} runs on Windows only", "windows"
    return None


def _of_workloads(project: MsProject, source: Source) -> Iterator[Requirement]:
    """Yield the workloads that a property asks for (learn.microsoft.com, "dotnet workload")."""
    if project.says("usemaui"):
        yield any_version("dotnet", source, "the project uses MAUI", component="workload maui")
    for name in _NATIVE_WASM:
        if project.says(name) and name in project.settings:
            why = "it compiles WebAssembly of its own"
            yield any_version("dotnet", _source(project, name), why, component="workload wasm-tools")


def _of_language(project: MsProject) -> Iterator[Requirement]:
    """Yield the SDK that a version of the language asks for."""
    version = project.value("langversion")
    known = _SDK_OF_LANGUAGE.get(project.path.suffix, {})
    sdk = known.get(version.removesuffix(".0")) or known.get(version.partition(".")[0])
    if sdk:
        language = {".csproj": "C#", ".fsproj": "F#"}.get(project.path.suffix, "Visual Basic")
        why = f"it compiles {language} {version}"
        yield requirement("dotnet", f">={sdk}", "plain", _source(project, "langversion"), component="sdk", why=why)


def read_tools(manifest: Manifest) -> list[Requirement]:
    """Read the local tools: facts, since `dotnet tool restore` brings them; what it refuses is told.

    It wants a number `version` of at most 1, `isRoot`, and of each tool a version and commands (as the SDK 10 says).
    """
    data = as_json(manifest, comments=True)
    if wrong := misfits(manifest, data, _TOOLS, "dotnet"):
        return wrong
    tools = data.get("tools") or {}
    found: list[Requirement] = []

    def refused(why: str, *keys: str) -> None:
        found.append(unreadable("dotnet", manifest.json_source(*keys), f"dotnet tool restore refuses it: {why}"))

    if data.get("version", 1) > 1:
        refused(f"the SDK knows manifests of version 1, not {data['version']}", "version")
    if tools and "isRoot" not in data:
        refused('there is no "isRoot"', "tools")
    for name, entry in tools.items():
        version = entry.get("version")
        why = next((f'{name} has no "{key}"' for key in ("version", "commands") if not entry.get(key)), None)
        need = requirement(
            "dotnet", f"[{version}]", "nuget", manifest.json_source("tools", name), component=f"tool {name}",
            why="dotnet tool restore brings it",
        )  # fmt: skip
        if why or need.fault:
            refused(why or f"{version!r} is not a version of {name}", "tools", name)
        else:
            found.append(brought(need))
    if tools:
        found.append(any_version("dotnet", manifest.source(1), "dotnet tool restore needs it", component="sdk"))
    return found


def read_solution(manifest: Manifest) -> list[Requirement]:
    """A solution needs an SDK, unless none of its projects is .NET's; one that it names and that is missing is reported."""
    named = all_projects_named(manifest.path, manifest.root)
    projects = [manifest.path.parent / name for name, _ in named if name.lower().endswith(ENDINGS)]
    found = []
    if not named or any(_is_of_the_sdk(path, manifest.root) for path in projects):
        found.append(any_version("dotnet", manifest.source(1), "a solution is built by the SDK", component="sdk"))
    return [*found, *_not_there(manifest)]


def _not_there(manifest: Manifest) -> Iterator[Requirement]:
    """Yield the projects that a solution names and that are missing."""
    for name, line in projects_named(manifest.path, manifest.root):
        if not (manifest.path.parent / name).is_file():
            yield unreadable("dotnet", manifest.source(line), f"the solution names {name}, which is not there")


def _is_of_the_sdk(path: Path, root: Path) -> bool:
    """Whether the SDK builds a project: it names one; old projects of the .NET Framework do not."""
    try:
        return is_of_an_sdk(as_xml(open_manifest(path, root)))
    except ManifestFault:
        return True


def read_slnx(manifest: Manifest) -> list[Requirement]:
    """A solution in XML is read by SDKs from 9.0.200 on (learn.microsoft.com, "dotnet sln")."""
    solution = as_xml(manifest)
    why = "it reads solutions of this form"
    newer = requirement("dotnet", ">=9.0.200", "plain", manifest.source(solution.line), component="sdk", why=why)
    return [newer, *_not_there(manifest)]


def read_file_program(manifest: Manifest) -> list[Requirement]:
    """Read a program that is one file of C# (learn.microsoft.com, "File-based apps"): SDKs from 10.0 on start it."""
    if any(name.endswith(ENDINGS) for name in manifest.beside):
        return []
    found = re.search(r"(?m)^#:(?:sdk|package|property|project)\b.*|\A#!.*\bdotnet\b.*", manifest.text)
    if not found:
        return []
    line = manifest.text.count("\n", 0, found.start()) + 1
    why = "it starts a program that is one file"
    return [requirement("dotnet", ">=10.0", "plain", manifest.source(line), component="sdk", why=why)]
