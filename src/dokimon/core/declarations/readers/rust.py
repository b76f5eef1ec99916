"""Rust: `Cargo.toml` and the toolchain file."""

from __future__ import annotations

import re
from typing import Any

from dokimon.core.declarations.compatibility import compatibility
from dokimon.core.declarations.requirement import Requirement, any_version, requirement, unreadable
from dokimon.core.declarations.shapes import misfits
from dokimon.core.reading.json_places import Keys
from dokimon.core.reading.manifest import Manifest, ManifestFault, as_toml, open_manifest
from dokimon.core.reading.text import matches
from dokimon.core.reading.toml_lines import toml_line

_CARGO = {
    "package": "table",
    "package.edition": "text or table",
    "package.resolver": "text",
    "workspace": "table",
    "workspace.resolver": "text",
    "workspace.package": "table",
    "workspace.package.edition": "text",
}
_TOOLCHAIN = {
    "toolchain": "table",
    "toolchain.channel": "text",
    "toolchain.components": "list",
    "toolchain.components.*": "text",
    "toolchain.targets": "list",
    "toolchain.targets.*": "text",
}


def read_cargo(manifest: Manifest) -> list[Requirement]:
    """Read `rust-version` and `edition`, also those that a workspace above hands down."""
    data = as_toml(manifest)
    found = misfits(manifest, data, _CARGO, "rustc")
    for keys in (("package",), ("workspace", "package")):
        table: Any = data
        for key in keys:
            table = table.get(key) if isinstance(table, dict) else None
        if isinstance(table, dict):
            found += _of_package(manifest, table, keys)
        resolver = table.get("resolver") if isinstance(table, dict) else None
        if first := compatibility()["rust"]["resolver"].get(str(resolver)):
            source = manifest.source(toml_line(manifest.text, (*keys, "resolver")))
            found.append(requirement("cargo", f">={first}", "plain", source, why=f"resolver {resolver}"))
    workspace = data.get("workspace")
    resolver = workspace.get("resolver") if isinstance(workspace, dict) else None
    if first := compatibility()["rust"]["resolver"].get(str(resolver)):
        source = manifest.source(toml_line(manifest.text, ("workspace", "resolver")))
        found.append(requirement("cargo", f">={first}", "plain", source, why=f"resolver {resolver}"))
    if not any(each.tool == "rustc" for each in found):
        found.append(any_version("rustc", manifest.source(1), "a Cargo.toml is Rust's"))
    return [*found, any_version("cargo", manifest.source(1), "a Cargo.toml is Cargo's")]


def _of_package(manifest: Manifest, table: dict[str, Any], keys: Keys) -> list[Requirement]:
    wanted, source = table.get("rust-version"), manifest.source(toml_line(manifest.text, (*keys, "rust-version")))
    if isinstance(wanted, dict) and wanted.get("workspace") is True:
        wanted = _inherited(manifest, "rust-version")
    found: list[Requirement] = []
    if isinstance(wanted, str):
        found.append(requirement("rustc", f">={wanted}", "plain", source))
    elif wanted is not None:
        found.append(unreadable("rustc", source, '"rust-version" must be text such as "1.70"'))
    edition = table.get("edition")
    if isinstance(edition, dict) and edition.get("workspace") is True:
        edition = _inherited(manifest, "edition")
    first = compatibility()["rust"]["edition"].get(edition) if isinstance(edition, str) else None
    if first:
        source = manifest.source(toml_line(manifest.text, (*keys, "edition")))
        found.append(requirement("rustc", f">={first}", "plain", source, why=f"edition {edition}"))
    return found


def _inherited(manifest: Manifest, key: str) -> object:
    """Return a key of the workspace's own package table, from the nearest Cargo.toml above that has one."""
    folder = manifest.path.parent
    while folder != manifest.root and manifest.root in folder.parents:
        folder = folder.parent
        try:
            workspace = as_toml(open_manifest(folder / "Cargo.toml", manifest.root)).get("workspace")
        except ManifestFault:
            continue
        package = workspace.get("package") if isinstance(workspace, dict) else None
        if isinstance(package, dict):
            return package.get(key)
    return None


def read_toolchain(manifest: Manifest) -> list[Requirement]:
    """Read the channel, components and targets; the older form of the file is the channel alone."""
    if manifest.path.suffix != ".toml" and "[" not in manifest.text:
        channel = manifest.text.strip()
        return [_channel(manifest, channel, 1)] if channel else []
    data = as_toml(manifest)
    if "toolchain" not in data:
        raise ManifestFault(1, "has no table [toolchain]")
    found = misfits(manifest, data, _TOOLCHAIN, "rustc")
    toolchain = data["toolchain"] if isinstance(data["toolchain"], dict) else {}
    if isinstance(toolchain.get("channel"), str):
        found.append(_channel(manifest, toolchain["channel"], toml_line(manifest.text, ("toolchain", "channel"))))
    for key, name in (("components", "component"), ("targets", "target")):
        source = manifest.source(toml_line(manifest.text, ("toolchain", key)))
        names = toolchain.get(key)
        found += [
            any_version("rustc", source, component=f"{name} {each}")
            for each in (names if isinstance(names, list) else [])
            if isinstance(each, str)
        ]
    return found


def _channel(manifest: Manifest, channel: str, line: int) -> Requirement:
    source = manifest.source(line)
    if found := re.match(r"\d+\.\d+(\.\d+)?(?=$|-)", channel):
        return requirement("rustc", found[0], "plain", source, why="the toolchain file picks it")
    if re.match(r"(stable|beta|nightly)(?=$|-)", channel):
        return any_version("rustc", source, f"the toolchain file picks {channel}")
    return unreadable("rustc", source, f"{channel!r} is not a channel such as stable or 1.70")


def read_lock(manifest: Manifest) -> list[Requirement]:
    """Read the version of `Cargo.lock`: older Cargos do not read newer ones (Cargo's changelog)."""
    for match, line in matches(manifest, r"^version = (\d+)\s*$"):
        if first := compatibility()["rust"]["lock"].get(match[1]):
            why = f"it reads Cargo.lock of version {match[1]}"
            return [requirement("cargo", f">={first}", "plain", manifest.source(line), why=why)]
    return []


def read_config(manifest: Manifest) -> list[Requirement]:
    """Read `.cargo/config.toml`: the targets that are built for (the Cargo book, "Configuration")."""
    build = as_toml(manifest).get("build")
    given = build.get("target") if isinstance(build, dict) else None
    source = manifest.source(toml_line(manifest.text, ("build", "target")))
    names = [each for each in (given if isinstance(given, list) else [given]) if isinstance(each, str)]
    return [any_version("rustc", source, component=f"target {each}") for each in names if not each.endswith(".json")]
