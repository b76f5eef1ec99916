""".NET: `global.json`, project files and `Directory.Build.props`, local tools, solutions."""

from __future__ import annotations

import re

from dokimon.core.declarations.requirement import (
    Requirement,
    any_version,
    brought,
    platform_need,
    requirement,
    unreadable,
)
from dokimon.core.declarations.shapes import misfits
from dokimon.core.reading.manifest import Manifest, as_json
from dokimon.core.reading.text import matches
from dokimon.core.reading.xml import Element, as_xml

_WINDOWS_PROPERTIES = {"usewpf": "WPF", "usewindowsforms": "Windows Forms", "usewinui": "WinUI"}


_GLOBAL = {"sdk": "table", "sdk.version": "text", "sdk.rollForward": "text", "sdk.allowPrerelease": "true or false"}
_TOOLS = {"tools": "table", "tools.*": "table", "tools.*.version": "text"}


def read_global(manifest: Manifest) -> list[Requirement]:
    """Read the SDK and its roll-forward policy (learn.microsoft.com, "global.json overview")."""
    data = as_json(manifest, comments=True)
    if wrong := misfits(manifest, data, _GLOBAL, "dotnet"):
        return wrong
    sdk = data.get("sdk")
    if not isinstance(sdk, dict):
        return []
    version, source = sdk.get("version"), manifest.json_source("sdk", "version")
    if not isinstance(version, str):
        policy = sdk.get("rollForward")
        if version is None and isinstance(policy, str):
            return [any_version("dotnet", source, f"any SDK will do ({policy})", component="sdk")]
        return [unreadable("dotnet", source, '"sdk.version" must be text such as "8.0.302"')]
    words = [version]
    if "rollForward" in sdk:
        words.append(str(sdk["rollForward"]))
    if sdk.get("allowPrerelease") is False:
        words.append("allowPrerelease=false")
    return [requirement("dotnet", " ".join(words), "sdk-rollforward", source, component="sdk")]


def read_project(manifest: Manifest) -> list[Requirement]:
    """Read the target frameworks, and whether the project can run on Windows only."""
    project = as_xml(manifest)
    found: dict[tuple[str | None, str], Requirement] = {}
    for group in project.all("PropertyGroup"):
        for element in group.children:
            name = element.name.lower()
            if name in ("targetframework", "targetframeworks"):
                for framework in re.split(r"[;\s]+", element.text.strip()):
                    for need in _of_framework(framework, element, manifest):
                        found.setdefault((need.component, need.wanted), need)
            elif name in _WINDOWS_PROPERTIES and element.text.strip().lower() == "true":
                why = f"{_WINDOWS_PROPERTIES[name]} runs on Windows only"
                found.setdefault((None, "windows"), platform_need(["windows"], manifest.source(element.line), why))
    if not found and manifest.path.suffix != ".props":
        found[("sdk", "")] = any_version("dotnet", manifest.source(project.line), component="sdk")
    return list(found.values())


def _of_framework(framework: str, element: Element, manifest: Manifest) -> list[Requirement]:
    """Return what a target framework moniker asks for (learn.microsoft.com, "Target frameworks")."""
    source = manifest.source(element.line)
    if not framework:
        return []
    if "$(" in framework:
        return [unreadable("dotnet", source, f"{framework} is worked out by MSBuild, which is not run here")]
    if found := re.fullmatch(r"(?:net|netcoreapp)(\d+)\.(\d+)(?:-([a-z]+)[\d.]*)?", framework):
        version = f"{found[1]}.{found[2]}"
        needs = [
            requirement("dotnet", f">={version}", "plain", source, component="sdk", why=f"it builds {framework}"),
            requirement("dotnet", found[1], "plain", source, component="runtime", why=f"{framework} runs on it"),
        ]
        systems = {"windows": "windows", "macos": "macos", "maccatalyst": "macos", "ios": "macos", "tvos": "macos"}
        if found[3] in systems:
            needs.append(platform_need([systems[found[3]]], source, f"{framework} is built for it"))
        return needs
    if re.fullmatch(r"netstandard\d+\.\d+", framework):
        return [any_version("dotnet", source, f"it builds {framework}", component="sdk")]
    if re.fullmatch(r"net\d{2,3}", framework):
        return [platform_need(["windows"], source, f"the .NET Framework ({framework}) runs on Windows only")]
    return [unreadable("dotnet", source, f"{framework!r} is not a target framework that is known here")]


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
    """A solution needs an SDK; a project that it names and that is missing is reported."""
    found = [any_version("dotnet", manifest.source(1), "a solution is built by the SDK", component="sdk")]
    for match, line in matches(manifest, r'^Project\("[^"]*"\)\s*=\s*"[^"]*",\s*"([^"]+\.\w+proj)"', comment=""):
        path = manifest.path.parent / match[1].replace("\\", "/")
        if not path.is_file():
            found.append(
                unreadable("dotnet", manifest.source(line), f"the solution names {match[1]}, which is not there")
            )
    return found
