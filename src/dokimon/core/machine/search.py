"""Finding the copies of a tool: on PATH, under other names there, off PATH in usual homes, and the project's own."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Mapping
from itertools import pairwise
from pathlib import Path

import msgspec

from dokimon.core.machine.catalogue import Tool
from dokimon.core.machine.folders import system_root
from dokimon.core.machine.platform import identity, is_program
from dokimon.core.machine.search_path import SearchPath
from dokimon.core.machine.shims import Shim, Which, shim_of
from dokimon.core.machine.unrunnable import Unrunnable, why_unrunnable
from dokimon.core.machine.windows_registry import registry_folders

_ALTERNATIVES = "var/lib/dpkg/alternatives"


class Copy(msgspec.Struct, frozen=True, kw_only=True):
    """One copy of a tool: its path as PATH names it, the file behind the links, and how it is reached.

    `reached` says whether its command, typed in this folder, starts this copy; an `off_path` copy lies where PATH does
    not lead; `other_name` is the name by which alone it is reached (`python3.12`). `own` copies are the project's and
    are never run, nor is one in a folder that only the checkout names (`checkout_named`).
    `fault` says why it cannot be run. `shim` is what a shim starts.
    """

    path: Path
    real: Path
    reached: bool = False
    off_path: bool = False
    own: bool = False
    checkout_named: bool = False
    other_name: str | None = None
    shim: Shim | None = None
    fault: Unrunnable | None = None

    @property
    def program(self) -> Path:
        """The program that runs in the end: the one behind a shim, else the file behind the links."""
        return self.shim.program if self.shim and self.shim.program else self.real

    @property
    def named(self) -> Path:
        """The program as it is called: behind a shim the copy, else the path as PATH names it."""
        return self.shim.program if self.shim and self.shim.program else self.path


def copies_of(tool: Tool, places: SearchPath, which: Which) -> list[Copy]:
    """Return every copy of `tool`, the one that a command reaches first in front, the same file once."""
    found: list[Copy] = []
    files: set[object] = set()
    seen: set[object] = set()
    reached = False
    for copy in _all_copies(tool, places, which, files):
        same = _what_it_is(copy)
        if same in seen:
            continue
        seen.add(same)
        first = _is_typed(copy, tool) and not reached
        reached = reached or first
        found.append(msgspec.structs.replace(copy, reached=True, other_name=None) if first else copy)
    return sorted(found, key=lambda copy: not copy.reached)


def reached_copy(tool: Tool, places: SearchPath, which: Which) -> Copy | None:
    """Return the copy of `tool` that a command reaches; no other one is looked for."""
    reached = (copy for copy in _copies_on_path(tool, places, which) if _is_typed(copy, tool))
    first = next(reached, None)
    return msgspec.structs.replace(first, reached=True, other_name=None) if first else None


def _is_typed(copy: Copy, tool: Tool) -> bool:
    return copy.other_name in tool.commands and copy.fault is None


def _what_it_is(copy: Copy) -> object:
    """Two paths to one file are one copy, unless one of them is the Python of an environment (PEP 405), which differs."""
    environment = copy.path.parent.parent
    return str(environment) if (environment / "pyvenv.cfg").exists() else identity(copy.program)


def _all_copies(tool: Tool, places: SearchPath, which: Which, files: set[object]) -> Iterator[Copy]:
    """Yield the copies on PATH in its order, then the others. `files` keeps what was looked at: off PATH, each once."""
    for copy in _copies_on_path(tool, places, which):
        files.add(identity(copy.path))
        yield copy
    for path in _not_in(files, places.like(tool.also) if tool.also else ()):
        copy = _copy(path, places, which)
        if is_program(path) and copy.fault is None and not (copy.shim and copy.shim.says):
            yield msgspec.structs.replace(copy, other_name=path.name)
    at_home = (path for folder in _homes(tool, places) for name in tool.commands for path in places.holds(folder, name))
    for path in _not_in(files, at_home):
        copy = _copy(path, places, which, beside=True)
        # Of a command that the catalogue does not know, also what is broken is told: somebody looks for it.
        if (copy.fault is None or not tool.ask.arguments) and copy.shim is None and not copy.own:
            yield msgspec.structs.replace(copy, off_path=True)
    yield from _never_run(tool, places, files)


def _copies_on_path(tool: Tool, places: SearchPath, which: Which) -> Iterator[Copy]:
    for path, absolute, name in _on_path(tool, places):
        copy = _copy(path, places, which, absolute=absolute)
        # What only the tool's second name reaches is reached all the same: `python3` where `python` is another.
        yield msgspec.structs.replace(copy, other_name=name) if name and copy.fault is None else copy


def _never_run(tool: Tool, places: SearchPath, files: set[object]) -> Iterator[Copy]:
    """Yield the copies in folders that the checkout names, and those of the project itself."""
    named = (folder for home in tool.checkout_homes for folder in places.folders(home))
    in_named = (path for folder in named for name in tool.commands for path in places.holds(folder, name))
    for path in _not_in(files, in_named):
        yield Copy(path=path, real=_real(path), own=True, checkout_named=True)
    for place in places.own:
        # The root of a project holds wrappers of tools; a program there with a tool's name is neither a copy nor a wrapper.
        names = tool.wrappers if place.endswith("/.") else tool.commands
        for path in (path for name in names for path in places.holds(place, name)):
            yield Copy(path=path, real=_real(path), own=True)


def _on_path(tool: Tool, places: SearchPath) -> Iterator[tuple[Path, bool, str | None]]:
    """Yield what is on PATH under the names of the tool, whether by an absolute entry, and the name that reaches it."""
    for command in tool.commands:
        first = True
        for place, absolute in places.on_path:
            for path in places.holds(place, command):
                yield path, absolute, command if first else None
                first = first and not is_program(path)


def _not_in(files: set[object], paths: Iterable[Path]) -> Iterator[Path]:
    """Yield those of the paths that are no file of `files`, and add them."""
    for path in paths:
        if (same := identity(path)) not in files:
            files.add(same)
            yield path


def _homes(tool: Tool, places: SearchPath) -> Iterator[str]:
    """Yield the folders off PATH in which copies usually are: the tool's own, the system's other choices, everyone's."""
    for home in tool.homes:
        yield from places.folders(home)
    for key in tool.registry:
        yield from map(str, registry_folders(key))
    for command in tool.commands:
        yield from _alternatives(command, system_root(places.environment))
    yield from places.usual
    if not tool.ask.arguments:  # a command that the catalogue does not know may lie in any home
        yield from places.further


def _alternatives(command: str, root: Path) -> Iterator[str]:
    """Yield the folders of what Debian's alternatives (update-alternatives(1)) could make of a command instead.

    Each choice is a path followed by a line with its priority.
    """
    try:
        lines = (root / _ALTERNATIVES / command).read_text("utf-8", "replace").splitlines()
    except (OSError, ValueError):
        return
    for path, priority in pairwise(lines):
        if path.startswith("/") and priority.lstrip("-").isdecimal() and path.rpartition("/")[2] == command:
            yield str(root / path.rpartition("/")[0].lstrip("/"))


def _copy(path: Path, places: SearchPath, which: Which, *, absolute: bool = True, beside: bool = False) -> Copy:
    """Look at one file; with `beside`, what lies beside it may run it: its folder would be put first on PATH."""
    fault = places.once.find(("fault", path, beside), lambda: _fault(path, places.environment, beside=beside))
    real = _real(path)
    # What PATH reaches by a relative entry, or in the checkout, counts as the project's own.
    own = not absolute or places.in_checkout(path) or places.in_checkout(real) or places.starts_checkout(real)
    if fault or own:
        return Copy(path=path, real=real, own=own, fault=fault)
    shim = shim_of(path, real, places, which)
    if shim and shim.program:
        behind = _real(shim.program)
        own = places.in_checkout(shim.program) or places.in_checkout(behind) or places.starts_checkout(behind)
    return Copy(path=path, real=real, own=own, shim=shim)


def _fault(path: Path, environment: Mapping[str, str], *, beside: bool) -> Unrunnable | None:
    if beside:
        environment = {**environment, "PATH": f"{path.parent}{os.pathsep}{environment.get('PATH', '')}"}
    return why_unrunnable(path, environment)


def _real(path: Path) -> Path:
    try:
        return path.resolve(strict=True)
    except (OSError, RuntimeError):
        return path
