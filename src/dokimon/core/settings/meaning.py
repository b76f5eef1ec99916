"""What the types of `dokimon.toml` cannot check: versions, durations, patterns, names that must match."""

from __future__ import annotations

import re
from typing import Any

from dokimon.core.checks.spec import CheckSpec
from dokimon.core.measures import bytes_of, name_and_versions, seconds
from dokimon.core.patterns import PatternFault, check_pattern
from dokimon.core.reading.json_places import Keys
from dokimon.core.settings.model import NeedTable, ProjectTable, RunTable, ToolTable
from dokimon.core.settings.tables import TableReader, did_you_mean
from dokimon.core.versions import compiled
from dokimon.core.versions.faults import VersionFault

SYSTEMS = ("linux", "macos", "windows")

SUBJECTS = ("tool", "any", "variable", "path", "system", "architecture", "memory", "disk", "service")

QUESTIONS = ("--version", "-version", "-V")
"""What a tool that a checkout adds may be asked: by custom these print a version and do nothing else."""


def check_meaning(project: ProjectTable, tables: dict[str, list[Any]], reader: TableReader) -> None:
    """Compare the values of the file with each other and with what they mean; problems go to `reader`."""
    if project.largest_log is not None:
        try:
            bytes_of(project.largest_log)
        except ValueError as wrong:
            reader.problem(("project", "largest_log"), str(wrong))
    for i, need in enumerate(tables["need"]):
        _check_need(need, ("need", i), reader)
    for i, tool in enumerate(tables["tool"]):
        _check_tool(tool, ("tool", i), reader)
    for i, prepare in enumerate(tables["prepare"]):
        _check_duration(prepare.within, ("prepare", i, "within"), reader)
    names: list[str] = []
    for i, run in enumerate(tables["run"]):
        if run.name in names:
            reader.problem(("run", i, "name"), f'there is another run named "{run.name}"')
        names.append(run.name)
        _check_run(run, ("run", i), reader)
    _check_order(tables["run"], names, reader)
    for i, spec in enumerate(tables["smoke"]):
        _check_smoke(spec, i, names, reader)


def _check_run(run: RunTable, at: Keys, reader: TableReader) -> None:
    if isinstance(run.port, int) and not 0 < run.port < 65536:
        reader.problem((*at, "port"), f"{run.port} is not a port; ports are 1 to 65535")
    _check_duration(run.up.within, (*at, "up", "within"), reader)
    _check_pattern(run.up.line, (*at, "up", "line"), reader)
    if sum(way is not None for way in (run.up.line, run.up.file, run.up.get)) > 1:
        reader.problem((*at, "up"), '"up" is known by one of "line", "file" and "get"')
    if run.up.get is not None and not run.up.get.startswith("/"):
        reader.problem((*at, "up", "get"), f'"get" is a path on the run itself, such as "/"; not "{run.up.get}"')
    if run.target:
        _check_duration(run.target.within, (*at, "target", "within"), reader)
        _check_pattern(run.target.line, (*at, "target", "line"), reader)
    if run.serial:
        _check_pattern(run.serial.until, (*at, "serial", "until"), reader)
        if run.serial.listen is not None:
            _check_duration(run.serial.listen, (*at, "serial", "listen"), reader)


def _check_order(runs: list[RunTable], names: list[str], reader: TableReader) -> None:
    """Each `after` names another run, and following them never comes back to where one began."""
    after = {run.name: _texts(run.after) for run in runs}
    for i, run in enumerate(runs):
        for other in after[run.name]:
            if other not in names:
                reader.problem(("run", i, "after"), f'no run is named "{other}"; {did_you_mean(other, names)}')
        waiting, seen = list(after[run.name]), set[str]()
        while waiting:
            other = waiting.pop()
            if other == run.name:
                reader.problem(("run", i, "after"), f'"{run.name}" would come after itself')
                break
            if other not in seen:
                seen.add(other)
                waiting += after.get(other, [])


def _check_tool(tool: ToolTable, at: Keys, reader: TableReader) -> None:
    for command in tool.commands:
        if not re.fullmatch(r"[\w.+-]+", command) or command.startswith("-"):
            reader.problem((*at, "commands"), f"{command!r} is not the name of a command")
    arguments = tool.ask.arguments if tool.ask else ["--version"]
    if len(arguments) != 1 or arguments[0] not in QUESTIONS:
        says = f"a checkout may ask a tool for {' or '.join(QUESTIONS)} only; a catalogue of your own may say more"
        reader.problem((*at, "ask", "arguments"), says)


def _check_need(need: NeedTable, at: Keys, reader: TableReader) -> None:
    given = [subject for subject in SUBJECTS if getattr(need, subject)]
    if need.version is not None and not (need.tool or need.service):
        reader.problem((*at, "version"), '"version" goes with "tool" or "service"')
    elif len(given) != 1:
        has = " and ".join(given) if given else "none"
        reader.problem(at, f"[[need]] must have one subject, and has {has}; the subjects are {', '.join(SUBJECTS)}")
    if need.components and not need.tool:
        reader.problem((*at, "with"), '"with" goes with "tool"')
    if need.service and not need.port:
        reader.problem((*at, "service"), _NO_PORT)
    _check_versions(need.version, (*at, "version"), reader)
    _check_choices(need, at, reader)
    for component in need.components:
        _check_versions(name_and_versions(component)[1], (*at, "with"), reader)
    for size, key in ((need.memory, "memory"), (need.disk, "disk")):
        _check_size(size, (*at, key), reader)
    for name in _texts(need.system):
        if name not in SYSTEMS:
            reader.problem((*at, "system"), f'"{name}" is not a system; {did_you_mean(name, list(SYSTEMS))}')


_NO_PORT = 'a "service" needs the "port" that it listens on'


def _check_choices(need: NeedTable, at: Keys, reader: TableReader) -> None:
    for i, choice in enumerate(need.any):
        if choice.service and not choice.port:
            reader.problem((*at, "any", i), _NO_PORT)
        if bool(choice.tool) == bool(choice.service):
            reader.problem((*at, "any", i), 'each of "any" is one "tool" or one "service"')
        _check_versions(choice.version, (*at, "any", i, "version"), reader)


def _check_smoke(spec: CheckSpec, index: int, names: list[str], reader: TableReader) -> None:
    if spec.after_all:
        return
    if spec.of is None and len(names) > 1:
        reader.problem(("smoke", index), f'[[smoke]] needs "of": which run is meant, {" or ".join(names)}?')
    elif spec.of is not None and names and spec.of not in names:
        reader.problem(("smoke", index, "of"), f'no run is named "{spec.of}"; {did_you_mean(spec.of, names)}')


def _texts(given: str | list[str] | None) -> list[str]:
    return [given] if isinstance(given, str) else given or []


def _check_versions(version: str | None, keys: Keys, reader: TableReader) -> None:
    try:
        compiled("plain", version or "1")
    except VersionFault as wrong:
        reader.version_problem(keys, wrong)


def _check_size(size: str | None, keys: Keys, reader: TableReader) -> None:
    try:
        bytes_of(size or "1 MB")
    except ValueError as wrong:
        reader.problem(keys, str(wrong))


def _check_pattern(pattern: str | None, keys: Keys, reader: TableReader) -> None:
    if pattern is None:
        return
    try:
        check_pattern(pattern)
    except PatternFault as wrong:
        reader.problem(keys, wrong.reason)


def _check_duration(duration: str, keys: Keys, reader: TableReader) -> None:
    try:
        seconds(duration)
    except ValueError as wrong:
        reader.problem(keys, str(wrong))
