"""The survey: for each tool asked about, the copies on this machine and their versions."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import msgspec

from dokimon.core.machine.asking import ask
from dokimon.core.machine.catalogue import Tool, find_tool
from dokimon.core.machine.evidence import version_in_files
from dokimon.core.machine.search import Copy, copies_on_path
from dokimon.core.text import clean


class Installation(msgspec.Struct, frozen=True, omit_defaults=True, forbid_unknown_fields=True):
    """One copy of a tool on this machine.

    `reached` says whether a command typed in the project's folder starts it; an `off_path` copy lies where PATH does not
    lead. `known_by` is `file` or `asked`;
    `via` is the file behind a link, or the file that told the version, or, for a `shim`, the version manager that it
    belongs to. Where `version` is missing, `reason` says why. `seconds` is how long asking took.
    """

    tool: str
    path: str
    reached: bool
    off_path: bool = False
    version: str | None = None
    known_by: str | None = None
    via: str | None = None
    shim: bool = False
    reason: str | None = None
    seconds: float | None = None


def survey(
    tools: Iterable[str], folder: Path, checkout: Path, environment: Mapping[str, str]
) -> dict[str, list[Installation]]:
    """Return the installations of each tool, the reached one first. A tool outside the catalogue is only looked for.

    `folder` is where shims are asked, `checkout` the root nothing of which is run. Copies are asked side by side,
    as many at once as there are cores.
    """
    names = sorted(set(tools))
    copies = [
        (entry, copy)
        for entry in (find_tool(name) or _uncatalogued(name) for name in names)
        for copy in copies_on_path(entry, environment, folder, checkout)
    ]
    with ThreadPoolExecutor(max_workers=min(os.cpu_count() or 1, 16)) as pool:
        told = pool.map(lambda pair: _installation(pair[0], pair[1], folder, checkout, environment), copies)
        found: dict[str, list[Installation]] = {name: [] for name in names}
        for installation in told:
            found[installation.tool].append(installation)
    return found


def _other(path: Path, known: Path) -> str | None:
    return clean(str(path)) if path != known else None


def _uncatalogued(name: str) -> Tool:
    """An entry for a command that the catalogue does not know: it can be looked for, but is not run."""
    from dokimon.core.machine.catalogue import Ask

    commands = [name] if name and "/" not in name and "\\" not in name and not name.startswith("-") else []
    return Tool(name, name, "command", commands, Ask([], ""))


def _installation(tool: Tool, copy: Copy, folder: Path, checkout: Path, environment: Mapping[str, str]) -> Installation:
    via = copy.shim_of or (clean(str(copy.real)) if copy.real != copy.path else None)
    made = Installation(
        tool.name,
        clean(str(copy.path)),
        copy.reached,
        copy.off_path,
        via=via,
        shim=copy.shim_of is not None,
        reason=copy.fault,
    )
    if copy.fault:
        return made
    if not copy.shim_of and (told := version_in_files(copy.path, copy.real, tool.evidence)):
        return msgspec.structs.replace(made, version=told[0], known_by="file", via=via or _other(told[1], copy.path))
    if copy.in_checkout:
        return msgspec.structs.replace(
            made, reason="lies in the checkout and is not run by Dokimon; no file tells its version"
        )
    if not tool.ask.arguments:
        return msgspec.structs.replace(
            made, reason="is not in the catalogue: Dokimon does not know how to ask it for its version"
        )
    answer = ask(copy.path, tool.ask, folder, environment, checkout)
    return msgspec.structs.replace(
        made,
        version=answer.version,
        known_by="asked" if answer.version else None,
        reason=answer.reason,
        seconds=round(answer.seconds, 3),
    )
