"""The `[[need]]`s of `dokimon.toml`, as requirements."""

from __future__ import annotations

import msgspec

from dokimon.core.declarations.manifest import Manifest
from dokimon.core.declarations.requirement import Requirement, Source, any_version, requirement
from dokimon.core.machine.catalogue import Ask, Tool, find_tool
from dokimon.core.measures import name_and_versions
from dokimon.core.settings import Choice, Need, Settings
from dokimon.core.text import clean


def read_needs(settings: Settings, manifest: Manifest) -> list[Requirement]:
    """Return a requirement for each need and each of its components, in the order of the file."""
    found = []
    for index, need in enumerate(settings.need):
        source = manifest.source(settings.line("need", index))
        shown = msgspec.structs.replace(source, text=_as_written(need))
        found += [
            msgspec.structs.replace(each, strength=need.strength, why=need.why or each.why) for each in _of(need, shown)
        ]
    return found


def _of(need: Need, source: Source) -> list[Requirement]:
    if need.any:
        either = tuple(_choice(each, source) for each in need.any)
        name = " or ".join(each.tool for each in either)
        return [Requirement(name, "any version", "plain", source, alternatives=either)]
    if need.tool:
        components = [_component(need.tool, each, source) for each in need.components]
        entry = find_tool(need.tool)
        if components and entry and not entry.commands:
            return components  # there is no program whose presence or version could be meant
        return [_tool(need.tool, need.version, source), *components]
    if need.variable:
        return [Requirement(need.variable, "is set", "plain", source, kind="variable")]
    if need.path:
        return [Requirement(need.path, "is there", "plain", source, kind="path")]
    if need.service:
        return [_service(need.service, need.version, need.host, need.port or 0, source)]
    if size := need.memory or need.disk:
        return [Requirement("memory" if need.memory else "disk", f"at least {size}", "plain", source, kind="platform")]
    subject, given = ("system", need.system) if need.system else ("architecture", need.architecture)
    words = given if isinstance(given, str) else " ".join(given or [])
    return [Requirement(subject, words, "plain", source, kind="platform")]


def _choice(choice: Choice, source: Source) -> Requirement:
    if choice.service:
        return _service(choice.service, choice.version, choice.host, choice.port or 0, source)
    return _tool(choice.tool or "", choice.version, source)


def _service(name: str, version: str | None, host: str, port: int, source: Source) -> Requirement:
    where = f"listens on {host} port {port}"
    made = _tool(name, version, source) if version else Requirement(name, where, "plain", source)
    return msgspec.structs.replace(made, kind="service", component=f"{host}:{port}")


def _component(tool: str, written: str, source: Source) -> Requirement:
    name, versions = name_and_versions(written)
    if versions is None:
        return any_version(tool, source, component=name)
    return requirement(tool, versions, "plain", source, component=name)


def added_tools(settings: Settings) -> dict[str, Tool]:
    """Return the tools that the settings add to the catalogue, by name."""
    return {
        each.name: Tool(
            each.name,
            each.title or each.name,
            each.kind,
            each.commands or [each.name],
            homes=each.homes,
            ask=Ask(arguments=each.ask.arguments if each.ask else ["--version"]),
        )
        for each in settings.tool
    }


def _tool(name: str, version: str | None, source: Source) -> Requirement:
    return requirement(name, version, "plain", source) if version else any_version(name, source)


def _as_written(need: Need) -> str:
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
