"""The `[[need]]`s of `dokimon.toml`, as requirements."""

from __future__ import annotations

import msgspec

from dokimon.core.declarations.requirement import (
    Requirement,
    any_version,
    either,
    path_need,
    platform_need,
    requirement,
    service_need,
    size_need,
    variable_need,
)
from dokimon.core.machine.catalogue import Ask, Catalogue, Tool
from dokimon.core.measures import name_and_versions
from dokimon.core.reading.manifest import Manifest
from dokimon.core.settings.model import ChoiceTable, NeedTable, Settings
from dokimon.core.source import Source
from dokimon.core.text import clean


def read_needs(settings: Settings, manifest: Manifest, catalogue: Catalogue) -> list[Requirement]:
    """Return a requirement for each need and each of its components, in the order of the file."""
    found = []
    for index, need in enumerate(settings.need):
        source = manifest.source(settings.line("need", index))
        shown = msgspec.structs.replace(source, text=_as_written(need))
        found += [
            msgspec.structs.replace(each, strength=need.strength, why=need.why or each.why)
            for each in _of(need, shown, catalogue)
        ]
    return found


def _of(need: NeedTable, source: Source, catalogue: Catalogue) -> list[Requirement]:
    if need.any:
        return [either([_choice(each, source) for each in need.any], source)]
    if need.tool:
        components = [_component(need.tool, each, source) for each in need.components]
        entry = catalogue.find(need.tool)
        if components and entry and not entry.commands:
            return components  # there is no program whose presence or version could be meant
        return [_tool(need.tool, need.version, source), *components]
    return [_beside_tools(need, source)]


def _beside_tools(need: NeedTable, source: Source) -> Requirement:
    if need.variable:
        return variable_need(need.variable, source)
    if need.path:
        return path_need(need.path, source)
    if need.service:
        return service_need(need.service, need.version, need.host, need.port or 0, source)
    if need.memory:
        return size_need("memory", need.memory, source)
    if need.disk:
        return size_need("disk", need.disk, source)
    if need.system:
        return platform_need(_texts(need.system), source)
    return platform_need(_texts(need.architecture), source, axis="architecture")


def _texts(given: str | list[str] | None) -> list[str]:
    return given.split() if isinstance(given, str) else given or []


def _choice(choice: ChoiceTable, source: Source) -> Requirement:
    if choice.service:
        return service_need(choice.service, choice.version, choice.host, choice.port or 0, source)
    return _tool(choice.tool or "", choice.version, source)


def _component(tool: str, written: str, source: Source) -> Requirement:
    name, versions = name_and_versions(written)
    if versions is None:
        return any_version(tool, source, component=name)
    return requirement(tool, versions, "plain", source, component=name)


def added_tools(settings: Settings) -> dict[str, Tool]:
    """Return the tools that the settings add to the catalogue, by name."""
    return {
        each.name: Tool(
            name=each.name,
            title=each.title or each.name,
            kind=each.kind,
            commands=each.commands or [each.name],
            checkout_homes=each.homes,
            only_checkout=True,
            ask=Ask(arguments=each.ask.arguments if each.ask else ["--version"]),
        )
        for each in settings.tool
    }


def _tool(name: str, version: str | None, source: Source) -> Requirement:
    return requirement(name, version, "plain", source) if version else any_version(name, source)


def _as_written(need: NeedTable) -> str:
    """Return what the need asks for, in the words of the file."""
    if need.any:
        named = (f"{each.tool or each.service} {each.version or ''}".strip() for each in need.any)
        return clean("any = " + ", ".join(named))
    for key in ("tool", "variable", "path", "system", "architecture", "memory", "disk", "service"):
        if value := getattr(need, key):
            rest = f', version = "{need.version}"' if need.version else ""
            rest += f", with {', '.join(need.components)}" if need.components else ""
            shown = value if isinstance(value, str) else ", ".join(value)
            return clean(f'{key} = "{shown}"{rest}')
    return ""
