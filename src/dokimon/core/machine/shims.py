"""Shims: small stand-ins that version managers put on PATH and that start another program by the folder they are in.

Which program that is, is read from the manager's own files. A shim is never run: what it starts is up to files of the
project, which may well point into the checkout.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path

import msgspec

from dokimon.core.files import text_of
from dokimon.core.machine.folders import home_of, newest_first
from dokimon.core.machine.platform import ARCHITECTURES, architecture_name, is_program, path_folders
from dokimon.core.machine.search_path import SearchPath
from dokimon.core.machine.version_managers import Manager, managers
from dokimon.core.text import clean


class Shim(msgspec.Struct, frozen=True, kw_only=True):
    """What a shim starts: its manager, the version chosen here and by what, the program; or why there is none."""

    manager: str
    version: str | None = None
    chosen_by: str | None = None
    program: Path | None = None
    says: str | None = None


Which = Callable[[list[str], list[str]], str | None]
"""Asks a manager for the program behind a shim: an argument list and the variables it needs in, its first line out."""


def shim_of(path: Path, real: Path, places: SearchPath, which: Which) -> Shim | None:
    """Return what the shim `path` starts, asked in the folder of `places`, or None when it is the tool itself."""
    if real.name in ("rustup", "rustup-init") and path.name not in ("rustup", "rustup-init"):
        return _behind_rustup(path.name, real, places)
    if real.parent.name == "dist" and real.parent.parent.name == "corepack" and path.name != "corepack":
        return _behind_corepack(path.name, places)
    name = _manager_of(path, real)
    if name is None:
        return None
    manager = managers().get(name)
    if manager is None:
        return Shim(manager=name, says="is a shim of a version manager that Dokimon does not know, and is not run")
    if manager.which:
        answer = which([word.replace("{command}", path.name) for word in manager.which], manager.keeps)
        program = Path(answer) if answer and Path(answer).is_absolute() else None
        if program and is_program(program):
            return Shim(manager=name, chosen_by=f"{name} itself", program=program)
        return Shim(manager=name, says=f"is a shim of {name}, which has no {path.name} for this folder")
    return _behind_family(name, manager, path, real, places)


def _manager_of(path: Path, real: Path) -> str | None:
    if real.name in ("volta-shim", "proto-shim") and path.name != real.name:
        return real.name.removesuffix("-shim")
    if path.parent.name != "shims":
        return None
    for name, manager in managers().items():
        if manager.shims and re.search(manager.shims, str(path)):
            return name
    head = text_of(real)
    for name, manager in managers().items():
        if manager.shims and re.search(rf"\b{name}\b", head):
            return name
    return "a version manager" if head.startswith("#!") and "exec " in head else None


def _behind_family(name: str, manager: Manager, path: Path, real: Path, places: SearchPath) -> Shim:
    """Managers that keep each version in a folder of its own and read its name from a file or a variable."""
    plugin = _plugin(real) if "{plugin}" in (manager.program or "") else ""
    environment = places.environment
    named = manager.roots_here(environment)
    root = next((each for each in [*named, path.parent.parent] if each.is_dir()), path.parent.parent)
    choices = _choices(manager, plugin, root, places)
    chosen = next(choices, None)
    if chosen is None:
        return Shim(manager=name, says=f"is a shim of {name}, and no version is chosen for this folder")
    versions, by = chosen
    if not versions:
        return Shim(manager=name, chosen_by=by, says=_led_out(name, by))
    for version in versions:
        if version == "system":
            program = _beyond_shims(path, environment)
        else:
            program = _installed(root, manager, plugin, version, path.name)
        if program:
            return Shim(manager=name, version=version, chosen_by=by, program=program)
    wanted = clean(" ".join(versions), 80)
    return Shim(
        manager=name,
        version=wanted,
        chosen_by=by,
        says=f"is a shim of {name}, which has no {path.name} for {wanted}, the version that {by} chooses",
    )


def _led_out(manager: str, by: str) -> str:
    return f"is a shim of {manager}, and what chooses its version, {clean(by)}, is a link out of the checkout: not read"


def _plugin(shim: Path) -> str:
    found = re.search(r"asdf-plugin: (\S+)", text_of(shim))
    return found[1] if found else ""


def _choices(manager: Manager, plugin: str, root: Path, places: SearchPath) -> Iterator[tuple[list[str], str]]:
    """Yield the versions that are chosen and by what: the variable, the nearest file, the fallback.

    A file that is a link out of the checkout chooses none that could be told.
    """
    environment, folder = places.environment, places.folder
    variable = (manager.variable or "").replace("{PLUGIN}", plugin.upper())
    if value := environment.get(variable):
        yield re.split(r"[:\s]+", value.strip()), f"the variable {variable}"
    home = home_of(environment)
    for place in [folder, *folder.parents, *([home] if home else [])]:
        for file in manager.files:
            if places.leads_out(place / file):
                yield [], str(place / file)
            elif versions := _versions_in(place / file, plugin):
                yield versions, str(place / file)
    if manager.fallback:
        yield _versions_in(root / manager.fallback, plugin) or ["system"], str(root / manager.fallback)


def _versions_in(file: Path, plugin: str) -> list[str]:
    lines = [line.partition("#")[0].split() for line in text_of(file).splitlines()]
    if plugin:
        return next((words[1:] for words in lines if words and words[0] == plugin), [])
    return [word for words in lines for word in words]


def _installed(root: Path, manager: Manager, plugin: str, version: str, command: str) -> Path | None:
    """Return the program of the version, where the manager takes prefixes of the newest that begins with it.

    A virtual environment goes by its name, or by that of its Python before it (`3.12.1/envs/quay`). Names that lead
    elsewhere are refused.
    """
    if not re.fullmatch(r"[\w.+-]+(?:/envs/[\w.+-]+)?", version) or {".", ".."} & set(version.split("/")):
        return None
    layout = manager.program or ""
    stripped = next((version.removeprefix(each) for each in manager.strips if version.startswith(each)), version)
    for each in dict.fromkeys((version, stripped)):
        at = root / layout.replace("{plugin}", plugin).replace("{version}", each).replace("{command}", command)
        if is_program(at):
            return at
    if not manager.prefixes:
        return None
    version = stripped
    wild = layout.replace("{plugin}", plugin).replace("{version}", f"{version}.*").replace("{command}", command)
    fitting = [path for path in root.glob(wild) if is_program(path)]
    return max(fitting, key=newest_first, default=None)


def _beyond_shims(path: Path, environment: Mapping[str, str]) -> Path | None:
    for folder, absolute in path_folders(environment, Path("/")):
        if absolute and folder != path.parent and folder.name != "shims" and is_program(folder / path.name):
            return folder / path.name
    return None


def _behind_rustup(command: str, real: Path, places: SearchPath) -> Shim:
    """rustup's own order (its book, "Overrides"): variable, override of the folder, toolchain file, default."""
    environment = places.environment
    home = home_of(environment)
    root = Path(environment.get("RUSTUP_HOME") or (home / ".rustup" if home else "/nonexistent"))
    try:
        settings = tomllib.loads(text_of(root / "settings.toml"))
    except ValueError:
        settings = {}
    triple = str(settings.get("default_host_triple") or "")
    for channel, by in _rust_channels(settings, root, places):
        if not channel:
            return Shim(manager="rustup", chosen_by=by, says=_led_out("rustup", by))
        program = _of_toolchain(root, channel, triple, command)
        if program:
            return Shim(manager="rustup", version=channel, chosen_by=by, program=program)
        says = f"is a shim of rustup, which has no {command} in the toolchain {clean(channel, 80)} that {by} chooses"
        return Shim(manager="rustup", version=clean(channel, 80), chosen_by=by, says=says)
    return Shim(manager="rustup", says="is a shim of rustup, and no toolchain is chosen for this folder")


def _rust_channels(settings: dict[str, object], root: Path, places: SearchPath) -> Iterator[tuple[str, str]]:
    if value := places.environment.get("RUSTUP_TOOLCHAIN"):
        yield value, "the variable RUSTUP_TOOLCHAIN"
    overrides = settings.get("overrides")
    for place in (places.folder, *places.folder.parents):
        if isinstance(overrides, dict) and isinstance(overrides.get(str(place)), str):
            yield overrides[str(place)], f"an override of {place}"
        for name in ("rust-toolchain", "rust-toolchain.toml"):
            if places.leads_out(place / name):
                yield "", str(place / name)
            elif channel := _rust_channel_in(text_of(place / name)):
                yield channel, str(place / name)
    if isinstance(settings.get("default_toolchain"), str):
        yield str(settings["default_toolchain"]), str(root / "settings.toml")


def _rust_channel_in(text: str) -> str:
    if "[" not in text:
        return text.strip()
    try:
        toolchain = tomllib.loads(text).get("toolchain")
    except ValueError:
        return ""
    # A toolchain may also be named by a path: it can be in the checkout, so it counts as not installed.
    named = (toolchain.get("channel") or toolchain.get("path")) if isinstance(toolchain, dict) else None
    return str(named or "")


def _of_toolchain(root: Path, channel: str, triple: str, command: str) -> Path | None:
    if not re.fullmatch(r"[\w.+-]+", channel) or channel in (".", ".."):
        return None
    for name in (channel, f"{channel}-{triple}"):
        if is_program(root / "toolchains" / name / "bin" / command):
            return root / "toolchains" / name / "bin" / command
    machines = {architecture_name(), *ARCHITECTURES.get(architecture_name(), ())}
    fitting = [
        path
        for path in (root / "toolchains").glob(f"{channel}-*/bin/{command}")
        if any(machine in path.parts[-3] for machine in machines)
    ]
    return max(fitting, key=newest_first, default=None)


def _behind_corepack(command: str, places: SearchPath) -> Shim:
    """Corepack's own order: `packageManager` of the nearest package.json, else the last that is known to be good."""
    environment = places.environment
    home = home_of(environment)
    cache = Path(environment.get("COREPACK_HOME") or (home / ".cache/node/corepack" if home else "/nonexistent"))
    manager = {"pnpx": "pnpm", "yarnpkg": "yarn", "npx": "npm"}.get(command, command)
    version, by = "", ""
    for place in (places.folder, *places.folder.parents):
        if places.leads_out(place / "package.json"):
            return Shim(manager="corepack", says=_led_out("corepack", str(place / "package.json")))
        named = _json(place / "package.json").get("packageManager")
        if isinstance(named, str) and named.startswith(f"{manager}@"):
            version, by = named.removeprefix(f"{manager}@").partition("+")[0], str(place / "package.json")
            break
    else:
        for file in (cache / "lastKnownGood.json", cache / "v1/lastKnownGood.json"):
            good = _json(file).get(manager)
            if isinstance(good, str):
                version, by = good.partition("+")[0], str(file)
                break
    if not version:
        return Shim(manager="corepack", says=f"is a shim of corepack, and no {manager} is chosen for this folder")
    if re.fullmatch(r"[\w.+-]+", version):
        for holder in (cache / "v1" / manager / version, cache / manager / version):
            if holder.is_dir():
                return Shim(manager="corepack", version=version, chosen_by=by, program=holder)
    wanted = clean(version, 80)
    says = f"is a shim of corepack, which has not fetched {manager} {wanted} yet, the version that {by} chooses"
    return Shim(manager="corepack", version=wanted, chosen_by=by, says=says)


def _json(path: Path) -> dict[str, object]:
    import json

    try:
        read = json.loads(text_of(path))
    except (ValueError, RecursionError):
        return {}
    return read if isinstance(read, dict) else {}
