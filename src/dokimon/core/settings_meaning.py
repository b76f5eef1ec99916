"""What each value of `dokimon.toml` alone cannot tell: versions, durations, patterns, names that must match."""

from __future__ import annotations

import re
from typing import Any

from dokimon.core.checks.wanted import Wanted
from dokimon.core.declarations.manifest import Keys
from dokimon.core.measures import bytes_of, name_and_versions, seconds
from dokimon.core.settings import AddedTool, Need, Reading, Run
from dokimon.core.text import nearest
from dokimon.core.versions import VersionFault, compiled

SYSTEMS = ("linux", "macos", "windows")


def check_meaning(tables: dict[str, list[Any]], reading: Reading) -> None:
    """Tell what each value alone cannot: versions, durations, patterns, names that must match."""
    for i, need in enumerate(tables["need"]):
        _check_need(need, ("need", i), reading)
    for i, tool in enumerate(tables["tool"]):
        _check_tool(tool, ("tool", i), reading)
    for i, prepare in enumerate(tables["prepare"]):
        _check_duration(prepare.within, ("prepare", i, "within"), reading)
    names: list[str] = []
    for i, run in enumerate(tables["run"]):
        if run.name in names:
            reading.fault(("run", i, "name"), f'there is another run named "{run.name}"')
        names.append(run.name)
        if isinstance(run.port, int) and not 0 < run.port < 65536:
            reading.fault(("run", i, "port"), f"{run.port} is no port; one lies between 1 and 65535")
        _check_duration(run.up.within, ("run", i, "up", "within"), reading)
        _check_pattern(run.up.line, ("run", i, "up", "line"), reading)
        _check_devices(run, ("run", i), reading)
        if sum(way is not None for way in (run.up.line, run.up.file, run.up.get)) > 1:
            reading.fault(("run", i, "up"), '"up" is known by one of "line", "file" and "get"')
        if run.up.get is not None and not run.up.get.startswith("/"):
            reading.fault(
                ("run", i, "up", "get"), f'"get" is a path on the run itself, such as "/"; not "{run.up.get}"'
            )
    _check_order(tables["run"], names, reading)
    for i, smoke in enumerate(tables["smoke"]):
        _check_smoke(smoke, i, names, reading)


SUBJECTS = ("tool", "any", "variable", "path", "system", "architecture", "memory", "disk", "service")

QUESTIONS = ("--version", "-version", "-V")
"""What a tool that a checkout adds may be asked: by custom these print a version and do nothing else."""


def _check_devices(run: Run, at: Keys, reading: Reading) -> None:
    """What a run says of its target and its serial port."""
    if run.target:
        _check_duration(run.target.within, (*at, "target", "within"), reading)
        _check_pattern(run.target.line, (*at, "target", "line"), reading)
    if run.serial:
        _check_pattern(run.serial.until, (*at, "serial", "until"), reading)
        if run.serial.listen is not None:
            _check_duration(run.serial.listen, (*at, "serial", "listen"), reading)


def _check_order(runs: list[Run], names: list[str], reading: Reading) -> None:
    """Each `after` names another run, and following them never comes back to where one began."""
    after = {run.name: _texts(run.after) for run in runs}
    for i, run in enumerate(runs):
        for other in after[run.name]:
            if other not in names:
                like = nearest(other, names)
                hint = f'did you mean "{like}"?' if like else f"there are {', '.join(names)}"
                reading.fault(("run", i, "after"), f'no run is named "{other}"; {hint}')
        waiting, seen = list(after[run.name]), set[str]()
        while waiting:
            other = waiting.pop()
            if other == run.name:
                reading.fault(("run", i, "after"), f'"{run.name}" would come after itself')
                break
            if other not in seen:
                seen.add(other)
                waiting += after.get(other, [])


def _check_tool(tool: AddedTool, at: Keys, reading: Reading) -> None:
    for command in tool.commands:
        if not re.fullmatch(r"[\w.+-]+", command) or command.startswith("-"):
            reading.fault((*at, "commands"), f"{command!r} is no name of a command")
    arguments = tool.ask.arguments if tool.ask else ["--version"]
    if len(arguments) != 1 or arguments[0] not in QUESTIONS:
        says = f"a checkout may ask a tool for {' or '.join(QUESTIONS)} alone; a catalogue of your own may say more"
        reading.fault((*at, "ask", "arguments"), says)


def _check_size(size: str | None, keys: Keys, reading: Reading) -> None:
    try:
        bytes_of(size or "1 MB")
    except ValueError as wrong:
        reading.fault(keys, str(wrong))


def _check_need(need: Need, at: Keys, reading: Reading) -> None:
    given = [subject for subject in SUBJECTS if getattr(need, subject)]
    if need.version is not None and not (need.tool or need.service):
        reading.fault((*at, "version"), '"version" goes with "tool" or "service"')
    elif len(given) != 1:
        has = " and ".join(given) if given else "none"
        reading.fault(at, f"[[need]] must have one subject, and has {has}; there are {', '.join(SUBJECTS)}")
    for version, keys in [(need.version, (*at, "version")), *((each.version, (*at, "any")) for each in need.any)]:
        _check_versions(version, keys, reading)
    if need.components and not need.tool:
        reading.fault((*at, "with"), '"with" goes with "tool"')
    for service, port, key in ((need.service, need.port, "service"), *((c.service, c.port, "any") for c in need.any)):
        if service and not port:
            reading.fault((*at, key), 'a "service" needs the "port" that it listens on')
    for choice in need.any:
        if bool(choice.tool) == bool(choice.service):
            reading.fault((*at, "any"), 'each of "any" is one "tool" or one "service"')
    for size, key in ((need.memory, "memory"), (need.disk, "disk")):
        _check_size(size, (*at, key), reading)
    for component in need.components:
        _check_versions(name_and_versions(component)[1], (*at, "with"), reading)
    for name in _texts(need.system):
        if name not in SYSTEMS:
            like = nearest(name, list(SYSTEMS))
            hint = f'did you mean "{like}"?' if like else f"there are {', '.join(SYSTEMS)}"
            reading.fault((*at, "system"), f'"{name}" is not a system; {hint}')


def _check_versions(version: str | None, keys: Keys, reading: Reading) -> None:
    try:
        compiled("plain", version or "1")
    except VersionFault as wrong:
        reading.fault(keys, f'"version" cannot be read: {wrong}')


def _texts(given: str | list[str] | None) -> list[str]:
    return [given] if isinstance(given, str) else given or []


def _check_smoke(smoke: Wanted, index: int, names: list[str], reading: Reading) -> None:
    from dokimon.core.checks import kind_of

    if kind_of(smoke).name == "checkout":
        return
    if smoke.of is None and len(names) > 1:
        reading.fault(("smoke", index), f'[[smoke]] needs "of": which run is meant, {" or ".join(names)}?')
    elif smoke.of is not None and names and smoke.of not in names:
        like = nearest(smoke.of, names)
        hint = f'did you mean "{like}"?' if like else f"there are {', '.join(names)}"
        reading.fault(("smoke", index, "of"), f'no run is named "{smoke.of}"; {hint}')


def _check_pattern(pattern: str | None, keys: Keys, reading: Reading) -> None:
    try:
        re.compile(pattern or "")
    except re.error as wrong:
        reading.fault(keys, f"{pattern!r} is not a regular expression: {wrong}")


def _check_duration(duration: str, keys: Keys, reading: Reading) -> None:
    try:
        seconds(duration)
    except ValueError as wrong:
        reading.fault(keys, str(wrong))
