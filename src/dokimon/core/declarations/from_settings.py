"""The `[[need]]`s of `dokimon.toml`, as requirements."""

from __future__ import annotations

import msgspec

from dokimon.core.declarations.manifest import Manifest
from dokimon.core.declarations.requirement import Requirement, Source, any_version, requirement
from dokimon.core.settings import Need, Settings
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
        either = tuple(_tool(each.tool, each.version, source) for each in need.any)
        name = " or ".join(each.tool for each in need.any)
        return [Requirement(name, "any version", "plain", source, alternatives=either)]
    if need.tool:
        components = [any_version(need.tool, source, component=each) for each in need.components]
        return [_tool(need.tool, need.version, source), *components]
    if need.variable:
        return [Requirement(need.variable, "is set", "plain", source, kind="variable")]
    if need.path:
        return [Requirement(need.path, "is there", "plain", source, kind="path")]
    if need.service:
        where = f"listens on {need.host} port {need.port}"
        return [Requirement(need.service, where, "plain", source, kind="service", component=f"{need.host}:{need.port}")]
    subject, given = ("system", need.system) if need.system else ("architecture", need.architecture)
    words = given if isinstance(given, str) else " ".join(given or [])
    return [Requirement(subject, words, "plain", source, kind="platform")]


def _tool(name: str, version: str | None, source: Source) -> Requirement:
    return requirement(name, version, "plain", source) if version else any_version(name, source)


def _as_written(need: Need) -> str:
    """Return what the need asks for, in the words of the file."""
    if need.any:
        return clean("any = " + ", ".join(f"{each.tool} {each.version or ''}".strip() for each in need.any))
    for key in ("tool", "variable", "path", "system", "architecture", "service"):
        if value := getattr(need, key):
            rest = f', version = "{need.version}"' if need.version else ""
            rest += f", with {', '.join(need.components)}" if need.components else ""
            shown = value if isinstance(value, str) else ", ".join(value)
            return clean(f'{key} = "{shown}"{rest}')
    return ""
