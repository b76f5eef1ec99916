""".NET: `global.json`, project files and `Directory.Build.props`, local tools, solutions."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from pathlib import Path

from dokimon.core.declarations.global_json import HOST, read_text
from dokimon.core.declarations.msbuild import (
    frameworks_of,
    included,
    known_of,
    properties_of,
    props_above,
    sdk_of,
)
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
from dokimon.core.reading.xml import Element, as_xml
from dokimon.core.source import Source
from dokimon.core.versions.languages import sdk_rollforward

_TOOLS = {"tools": "table", "tools.*": "table", "tools.*.version": "text"}


def read_global(manifest: Manifest) -> list[Requirement]:
    """Read which SDK is taken in the folder and below it; a file that says nothing ends what one above it says."""
    asked = read_text(manifest.text)
    source = manifest.json_source("sdk", "version") if asked.wanted else manifest.source(1)
    if asked.ignored:
        as_json(manifest, comments=True)  # what is no JSON at all is told as such
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
    if not folder.resolve().is_relative_to(root):
        return []
    found = (path.parent.name for path in folder.glob("sdk/*/dotnet.dll"))
    return [name for name in found if sdk_rollforward.is_version(name)]


_SDK_OF_LANGUAGE = {"14": "10.0", "13": "9.0", "12": "8.0", "11": "7.0", "10": "6.0", "9": "5.0", "8": "3.0"}
"""The first SDK that compiles a version of C# (learn.microsoft.com, "C# language versioning")."""

_ON_WINDOWS = {"usewpf": "WPF", "usewindowsforms": "Windows Forms", "usewinui": "WinUI"}
_SYSTEM_OF = {"windows": "windows", "macos": "macos", "maccatalyst": "macos", "ios": "macos", "tvos": "macos"}
_WORKLOADS = ("android", "ios", "maccatalyst", "macos", "tvos", "tizen", "browser")


def read_project(manifest: Manifest) -> list[Requirement]:
    """Read the target frameworks, which runtimes they run on, and whether the project needs one system.

    Of several target frameworks each has a runtime of its own, side by side; a system is needed where each of them needs
    it. Libraries run nowhere by themselves. What a `Condition` decides counts where nothing else is said.
    """
    project = as_xml(manifest)
    is_props = manifest.path.suffix == ".props"
    known = {} if is_props else props_above(manifest.path.parent, manifest.root)
    known |= known_of(project, manifest)
    frameworks, element = frameworks_of(project, known)
    if not frameworks:
        if is_props or known.get("targetframework") or known.get("targetframeworks"):
            return []
        if sdk_of(project) or not project.first("PropertyGroup"):
            return [any_version("dotnet", manifest.source(project.line), component="sdk")]
        frameworks = ["net40"]  # an old project: what the .NET Framework of its time was
    found: dict[tuple[str, str | None, str], Requirement] = {}
    line = element.line if element else project.line
    source = manifest.source(line)

    def add(needs: Iterator[Requirement]) -> None:
        for need in needs:
            found.setdefault((need.tool, need.component, need.wanted), need)

    for framework in frameworks:
        add(_of_framework(framework, source, project, known, is_props))
    if system := _only_system(frameworks, known):
        what, name = system
        add(iter([platform_need([name], source, what)]))
    if workload := known.get("usemaui", "").lower() == "true" and "maui":
        add(iter([any_version("dotnet", source, "the project uses MAUI", component=f"workload {workload}")]))
    for each in properties_of(project):
        if each.name.lower() == "langversion" and (sdk := _SDK_OF_LANGUAGE.get(each.text.strip().partition(".")[0])):
            why = f"it compiles C# {each.text.strip()}"
            need = requirement("dotnet", f">={sdk}", "plain", manifest.source(each.line), component="sdk", why=why)
            add(iter([need]))
    return list(found.values())


def _parts(framework: str) -> tuple[str, str | None] | None:
    """Return the version and the platform of a target framework of .NET itself (net8.0-windows, netcoreapp3.1)."""
    found = re.fullmatch(r"(?:net|netcoreapp)(\d+\.\d+)(?:-([a-z]+)[\d.]*)?", framework)
    return (found[1], found[2]) if found else None


def _of_framework(
    framework: str, source: Source, project: Element, known: Mapping[str, str], is_props: bool
) -> Iterator[Requirement]:
    """Yield what a target framework moniker asks for (learn.microsoft.com, "Target frameworks")."""
    if "$(" in framework:
        yield unreadable("dotnet", source, f"{framework} is worked out by MSBuild, which is not run here")
        return
    if re.fullmatch(r"netstandard\d+\.\d+", framework) or re.fullmatch(r"net[1-4]\d{1,2}", framework):
        if framework.startswith("netstandard") or sdk_of(project):
            yield any_version("dotnet", source, f"it builds {framework}", component="sdk")
        return
    parts = _parts(framework)
    if parts is None:
        yield unreadable("dotnet", source, f"{framework!r} is not a target framework that is known here")
        return
    version, platform = parts
    yield requirement("dotnet", f">={version}", "plain", source, component="sdk", why=f"it builds {framework}")
    if platform in _WORKLOADS and known.get("usemaui", "").lower() != "true":
        yield any_version("dotnet", source, f"it builds {framework}", component=f"workload {platform}")
    if is_props or (platform in _WORKLOADS):
        return
    sdk = sdk_of(project)
    is_web = sdk.startswith("Microsoft.NET.Sdk.Web")
    if not (is_web or _runs(project, known, sdk)) or known.get("selfcontained", "").lower() == "true":
        return
    policy = known.get("rollforward", "minor").lower()
    wanted = f">={version}" if "major" in policy else version
    if policy in ("minor", "latestminor"):
        major, _, minor = version.partition(".")
        wanted = major if minor == "0" else f">={version}, <{int(major) + 1}"
    yield beside_others(
        requirement("dotnet", wanted, "plain", source, component="runtime", why=f"{framework} runs on it")
    )
    if is_web or "Microsoft.AspNetCore.App" in included(project, "FrameworkReference"):
        why = f"{framework} runs on it: a web project"
        yield beside_others(requirement("dotnet", wanted, "plain", source, component="aspnetcore", why=why))


def _runs(project: Element, known: Mapping[str, str], sdk: str) -> bool:
    """Whether the project is started, and no library: a program, a service, or tests."""
    if known.get("outputtype", "").lower() in ("exe", "winexe") or sdk.startswith("Microsoft.NET.Sdk.Worker"):
        return True
    return known.get("istestproject", "").lower() == "true" or "Microsoft.NET.Test.Sdk" in included(
        project, "PackageReference"
    )


def _only_system(frameworks: list[str], known: Mapping[str, str]) -> tuple[str, str] | None:
    """Return why the project needs one system, and which; None where some target framework goes without it."""
    systems = []
    for framework in frameworks:
        parts = _parts(framework)
        if parts:
            systems.append(_SYSTEM_OF.get(parts[1] or ""))
        else:
            systems.append("windows" if re.fullmatch(r"net[1-4]\d{1,2}", framework) else None)
    for name, what in _ON_WINDOWS.items():
        if known.get(name, "").lower() == "true" and known.get("enablewindowstargeting", "").lower() != "true":
            systems = [
                each or ("windows" if _parts(one) else None) for each, one in zip(systems, frameworks, strict=True)
            ]
            if set(systems) == {"windows"}:
                return f"{what} runs on Windows only", "windows"
    if len(set(systems)) == 1 and systems[0]:
        old = all(_parts(each) is None for each in frameworks)
        what = (
            f"the .NET Framework ({frameworks[0]}) runs on Windows only" if old else f"{frameworks[0]} is built for it"
        )
        return what, systems[0]
    return None


def read_tools(manifest: Manifest) -> list[Requirement]:
    """Read the local tools: facts, since `dotnet tool restore` brings them."""
    data = as_json(manifest, comments=True)
    found = misfits(manifest, data, _TOOLS, "dotnet")
    tools = data.get("tools")
    for name, entry in tools.items() if isinstance(tools, dict) else ():
        version = entry.get("version") if isinstance(entry, dict) else None
        if isinstance(version, str):
            source = manifest.json_source("tools", name)
            why = "dotnet tool restore brings it"
            need = requirement("dotnet", f"[{version}]", "nuget", source, component=f"tool {name}", why=why)
            found.append(brought(need))
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
        return bool(sdk_of(as_xml(open_manifest(path, root))))
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
