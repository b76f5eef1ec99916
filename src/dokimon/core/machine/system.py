"""This machine itself: its system, its size, and environment variables that name the home of a tool."""

from __future__ import annotations

import os
import re
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path

import msgspec

from dokimon.core.files import text_of
from dokimon.core.machine.catalogue import Tool
from dokimon.core.machine.platform import LINUX, architecture_name, system_name
from dokimon.core.machine.survey import Installation
from dokimon.core.text import clean


class System(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True, forbid_unknown_fields=True):
    """The machine: `system` as needs call it, its `release` in words, the C library; sizes in bytes."""

    system: str
    release: str
    architecture: str
    cores: int
    memory: int
    disk_free: int
    kernel: str | None = None
    libc: str | None = None


def this_system(folder: Path) -> System:
    """Return what is known of this machine; free disk is that of the file system which holds `folder`."""
    import platform

    import psutil

    free = 0
    for place in (folder, *folder.parents):
        try:
            free = psutil.disk_usage(str(place)).free
            break
        except OSError:
            continue
    return System(
        system=system_name(),
        release=release_name(),
        architecture=architecture_name(),
        cores=os.cpu_count() or 1,
        memory=psutil.virtual_memory().total,
        disk_free=free,
        kernel=clean(platform.release(), 80) or None,
        libc=_libc(),
    )


def release_name() -> str:
    """Return the name that the distribution gives itself (os-release(5)); elsewhere what Python knows."""
    if LINUX:
        for file in ("/etc/os-release", "/usr/lib/os-release"):
            if found := re.search(r'^PRETTY_NAME="?([^"\n]+)', text_of(Path(file)), re.MULTILINE):
                return clean(found[1], 80)
    import platform

    if mac := platform.mac_ver()[0]:
        return f"macOS {mac}"
    return clean(f"{platform.system()} {platform.release()}", 80)


def _libc() -> str | None:
    if not LINUX:
        return None
    import platform

    name, version = platform.libc_ver()
    if name:
        return f"{name} {version}".strip()
    return "musl" if any(Path("/lib").glob("ld-musl-*")) else None


def notes_on_variables(
    tools: Iterable[Tool], installations: Mapping[str, Sequence[Installation]], environment: Mapping[str, str]
) -> list[str]:
    """Return a sentence for each variable that names a tool's home and points to nothing, or to another copy than PATH."""
    found: dict[str, None] = {}
    for tool in tools:
        for variable in tool.home_variables:
            value = environment.get(variable)
            if not value:
                continue
            if sentence := _about(tool, variable, Path(value), installations.get(tool.name, ())):
                found[clean(sentence)] = None
    return list(found)


def _about(tool: Tool, variable: str, home: Path, copies: Sequence[Installation]) -> str | None:
    if not home.is_dir():
        return f"{variable} names {home}, which is not there"
    programs = [home / folder / command for folder in ("bin", ".") for command in tool.commands]
    program = next((each for each in programs if each.exists()), None)
    if program is None:
        return f"{variable} names {home}, which holds no {tool.commands[0]}" if tool.commands else None
    reached = next((copy for copy in copies if copy.reached), None)
    if reached is None or program.resolve() == Path(reached.program).resolve():
        return None
    named = next((copy for copy in copies if Path(copy.path).resolve() == program.resolve()), None)
    version = f" ({named.version})" if named and named.version else ""
    mine = f" ({reached.version})" if reached.version else ""
    command = f"{tool.commands[0]} on PATH is {reached.path}{mine}"
    return f"{variable} names {home}{version}, but {command}; build tools differ in which they use"
