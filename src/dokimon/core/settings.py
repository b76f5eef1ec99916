"""`dokimon.toml`: its text in, typed values or a list of faults out. See docs/configuration.md for every key."""

from __future__ import annotations

import re
from typing import Any, Literal, TypeVar

import msgspec

from dokimon.core.declarations.manifest import Keys, Manifest, ManifestFault, as_toml, toml_line
from dokimon.core.text import nearest
from dokimon.core.versions import VersionFault, compiled


class Project(msgspec.Struct, frozen=True):
    """`[project]`"""

    name: str | None = None


class Choice(msgspec.Struct, frozen=True):
    """One of the tools or services of a need that `any` of several meets."""

    tool: str | None = None
    service: str | None = None
    version: str | None = None
    host: str = "127.0.0.1"
    port: int | None = None


class Need(msgspec.Struct, frozen=True):
    """`[[need]]`: one subject, the versions that will do, and why.

    The subject is a `tool` (`with` components, each with or without versions), `any` of several, an environment
    `variable`, a `path` that must be there, the operating `system` or `architecture`, the `memory` or free `disk` of the
    machine, or a `service` that listens on a `port`.
    """

    tool: str | None = None
    version: str | None = None
    components: list[str] = msgspec.field(default_factory=list, name="with")
    any: list[Choice] = []
    variable: str | None = None
    path: str | None = None
    system: str | list[str] | None = None
    architecture: str | list[str] | None = None
    memory: str | None = None
    disk: str | None = None
    service: str | None = None
    host: str = "127.0.0.1"
    port: int | None = None
    strength: Literal["required", "advised"] = "required"
    why: str | None = None


class AddedAsk(msgspec.Struct, frozen=True):
    """`ask` of a tool that the project adds: a checkout has no say in more than which plain question is asked."""

    arguments: list[str] = msgspec.field(default_factory=lambda: ["--version"])


class AddedTool(msgspec.Struct, frozen=True):
    """`[[tool]]`: a tool that the catalogue does not know, or more homes and commands of one that it knows."""

    name: str
    title: str | None = None
    kind: str = "command"
    commands: list[str] = []
    homes: list[str] = []
    ask: AddedAsk | None = None


class Prepare(msgspec.Struct, frozen=True):
    """`[[prepare]]`: a command, needed only while what it makes is missing or older than what it is made from."""

    command: str
    title: str | None = None
    folder: str = msgspec.field(default=".", name="in")
    made_from: list[str] = msgspec.field(default_factory=list, name="from")
    makes: list[str] = []
    within: str = "30m"


class Up(msgspec.Struct, frozen=True):
    """`up` of a run: a pattern (regular expression) that a line of output shows once the run can be used."""

    line: str | None = None
    within: str = "3m"


class Run(msgspec.Struct, frozen=True):
    """`[[run]]`: a process to start. Without `kind` it is a server when it listens and a program when it ends."""

    name: str
    command: str
    folder: str = msgspec.field(default=".", name="in")
    kind: Literal["server", "program"] | None = None
    port: int | Literal["any"] | None = None
    environment: dict[str, str] = {}
    up: Up = Up()


class Smoke(msgspec.Struct, frozen=True):
    """`[[smoke]]`: what one run must show. `get` asks a server; `exit` and `prints` look at what a program did."""

    of: str | None = None
    get: str | None = None
    status: int | list[int] | None = None
    title: str | None = None
    shows: str | list[str] = []
    assets: bool | None = None
    exit: int | None = None
    prints: str | list[str] = []


class Settings(msgspec.Struct, frozen=True):
    """The whole file. `lines` gives the line of each table: `("run", 0)` for the first `[[run]]`."""

    format: int = 1
    project: Project = Project()
    need: list[Need] = []
    tool: list[AddedTool] = []
    prepare: list[Prepare] = []
    run: list[Run] = []
    smoke: list[Smoke] = []
    lines: dict[str, list[int]] = {}

    def line(self, table: str, index: int) -> int:
        """Return the line (from 1) at which the `index`th `[[table]]` begins."""
        return self.lines[table][index]


class Fault(msgspec.Struct, frozen=True):
    """One thing wrong with the file: where, what, and what would be right."""

    line: int
    says: str


class SettingsFault(Exception):
    """`dokimon.toml` cannot be used; `faults` says all that is wrong, in the order of the lines."""

    def __init__(self, file: str, faults: list[Fault]) -> None:
        super().__init__("; ".join(f"{file}:{fault.line}: {fault.says}" for fault in faults))
        self.file = file
        self.faults = sorted(faults, key=lambda fault: fault.line)


_TABLES: dict[str, type[msgspec.Struct]] = {
    "need": Need, "tool": AddedTool, "prepare": Prepare, "run": Run, "smoke": Smoke,
}  # fmt: skip
_Table = TypeVar("_Table", bound=msgspec.Struct)


def read_settings(manifest: Manifest) -> Settings:
    """Return the settings that the text holds; raises `SettingsFault` with everything that is wrong in it."""
    try:
        data = as_toml(manifest)
    except ManifestFault as wrong:
        raise SettingsFault(manifest.name, [Fault(wrong.line, wrong.reason)]) from None
    reading = _Reading(manifest.text)
    reading.unknown_keys(data, ["format", "project", *_TABLES], (), "dokimon.toml")
    if data.get("format") != 1:
        line = toml_line(manifest.text, ("format",)) if "format" in data else 1
        reading.fault_at(line, "the file must say `format = 1`, the one format that this Dokimon reads")
    project = reading.table(data.get("project", {}), Project, ("project",), "[project]") or Project()
    tables = {name: reading.array(data.get(name, []), kind, name) for name, kind in _TABLES.items()}
    if not reading.faults:
        _check_meaning(tables, reading)
    if reading.faults:
        raise SettingsFault(manifest.name, reading.faults)
    lines = {name: [toml_line(manifest.text, (name, i)) for i in range(len(tables[name]))] for name in _TABLES}
    return Settings(1, project, **tables, lines=lines)  # type: ignore[arg-type]


class _Reading:
    """The faults found so far, and the text that their lines are looked up in."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.faults: list[Fault] = []

    def fault_at(self, line: int, says: str) -> None:
        self.faults.append(Fault(line, says))

    def fault(self, keys: Keys, says: str) -> None:
        self.fault_at(toml_line(self.text, keys), says)

    def unknown_keys(self, given: dict[str, Any], known: list[str], at: Keys, where: str) -> None:
        for key in given:
            if key not in known:
                like = nearest(key, known)
                hint = f'did you mean "{like}"?' if like else f"known are {', '.join(known)}"
                self.fault((*at, key), f'unknown key "{key}" in {where}; {hint}')

    def array(self, given: object, kind: type[_Table], name: str) -> list[_Table]:
        if not isinstance(given, list) or not all(isinstance(item, dict) for item in given):
            self.fault((name,), f"write [[{name}]], with two brackets: there may be several")
            return []
        made = [self.table(item, kind, (name, i), f"[[{name}]]") for i, item in enumerate(given)]
        return [table for table in made if table is not None]

    def trusted(self, given: dict[str, Any], at: Keys) -> dict[str, Any]:
        """Tell the keys of a catalogue file that a checkout may not use, and return the others."""
        from dokimon.core.machine.catalogue import Tool

        ask = given["ask"] if isinstance(given.get("ask"), dict) else {}
        more: list[Keys] = [("ask", key) for key in ask if key != "arguments"]
        known, all_keys = _keys_of(AddedTool), _keys_of(Tool)
        more += [(key,) for key in given if key in all_keys and key not in known]
        for keys in more:
            name = ".".join(map(str, keys))
            says = f'"{name}" is for a catalogue of your own; a checkout is not trusted with it'
            self.fault((*at, *keys), says)
        return {key: value for key, value in given.items() if (key,) not in more}

    def table(self, given: object, kind: type[_Table], at: Keys, where: str) -> _Table | None:
        if not isinstance(given, dict):
            self.fault(at, f"{where} must be a table")
            return None
        if kind is AddedTool:
            given = self.trusted(given, at)
        self.unknown_keys(given, _keys_of(kind), at, where)
        for index, choice in enumerate(given["any"] if isinstance(given.get("any"), list) else []):
            if isinstance(choice, dict):
                self.unknown_keys(choice, _keys_of(Choice), (*at, "any", index), f"`any` of {where}")
        if isinstance(given.get("up"), dict):
            self.unknown_keys(given["up"], ["line", "within"], (*at, "up"), f"`up` of {where}")
        try:
            return msgspec.convert(given, kind)
        except msgspec.ValidationError as wrong:
            says, _, path = str(wrong).partition(" - at ")
            keys = tuple(re.findall(r"[A-Za-z_]+", path))
            self.fault((*at, *keys), _in_plain_words(says, ".".join(keys), where))
            return None


def _keys_of(kind: type[msgspec.Struct]) -> list[str]:
    return [field.encode_name for field in msgspec.structs.fields(kind)]


SYSTEMS = ("linux", "macos", "windows")

_TYPE_WORDS = {
    "str": "text in quotes", "int": "a whole number", "bool": "true or false", "float": "a number",
    "array": "a list", "object": "a table", "null": "nothing",
}  # fmt: skip


def _in_plain_words(says: str, key: str, where: str) -> str:
    if missing := re.fullmatch(r"Object missing required field `(.+)`", says):
        return f'{where} needs the key "{missing[1]}"'
    if types := re.fullmatch(r"Expected `(.+)`, got `(.+)`", says):
        wanted = " or ".join(_TYPE_WORDS.get(t, t) for t in types[1].split(" | ") if t != "null")
        return f'"{key}" in {where} must be {wanted}, not {_TYPE_WORDS.get(types[2], types[2])}'
    if value := re.fullmatch(r"Invalid enum value '(.+)'", says):
        choices = {"strength": ["required", "advised"], "kind": ["server", "program"], "port": ["any"]}.get(key, [])
        return f'"{key}" in {where} cannot be "{value[1]}"; it can be {" or ".join(choices)}'
    return f'"{key}" in {where}: {says}'


def _check_meaning(tables: dict[str, list[Any]], reading: _Reading) -> None:
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
    for i, smoke in enumerate(tables["smoke"]):
        _check_smoke(smoke, i, names, reading)


SUBJECTS = ("tool", "any", "variable", "path", "system", "architecture", "memory", "disk", "service")

QUESTIONS = ("--version", "-version", "-V")
"""What a tool that a checkout adds may be asked: by custom these print a version and do nothing else."""


def _check_tool(tool: AddedTool, at: Keys, reading: _Reading) -> None:
    for command in tool.commands:
        if not re.fullmatch(r"[\w.+-]+", command) or command.startswith("-"):
            reading.fault((*at, "commands"), f"{command!r} is no name of a command")
    arguments = tool.ask.arguments if tool.ask else ["--version"]
    if len(arguments) != 1 or arguments[0] not in QUESTIONS:
        says = f"a checkout may ask a tool for {' or '.join(QUESTIONS)} alone; a catalogue of your own may say more"
        reading.fault((*at, "ask", "arguments"), says)


_SIZE = re.compile(r"(\d+(?:\.\d+)?)\s*([MGT]i?B)")
_SIZES = {"MB": 10**6, "GB": 10**9, "TB": 10**12, "MiB": 2**20, "GiB": 2**30, "TiB": 2**40}


def _check_size(size: str | None, keys: Keys, reading: _Reading) -> None:
    try:
        bytes_of(size or "1 MB")
    except ValueError as wrong:
        reading.fault(keys, str(wrong))


def bytes_of(size: str) -> int:
    """Return the bytes that `4 GB` or `512 MiB` stand for (IEC 80000-13); raises `ValueError`."""
    found = _SIZE.fullmatch(size.strip())
    if not found:
        raise ValueError(f'"{size}" is no size; write for example "4 GB"')
    return int(float(found[1]) * _SIZES[found[2]])


def _check_need(need: Need, at: Keys, reading: _Reading) -> None:
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


def _check_versions(version: str | None, keys: Keys, reading: _Reading) -> None:
    try:
        compiled("plain", version or "1")
    except VersionFault as wrong:
        reading.fault(keys, f'"version" cannot be read: {wrong}')


def name_and_versions(component: str) -> tuple[str, str | None]:
    """Return a component's name, and the versions that stand behind it (`ext-redis >=5`), if any do."""
    found = re.fullmatch(r"(.*?)\s+([<>=!]=?\s*\d.*|\d[\d.]*)", component.strip())
    return (found[1], found[2]) if found else (component.strip(), None)


def _texts(given: str | list[str] | None) -> list[str]:
    return [given] if isinstance(given, str) else given or []


def _check_smoke(smoke: Smoke, index: int, names: list[str], reading: _Reading) -> None:
    if smoke.of is None and len(names) > 1:
        reading.fault(("smoke", index), f'[[smoke]] needs "of": which run is meant, {" or ".join(names)}?')
    elif smoke.of is not None and names and smoke.of not in names:
        like = nearest(smoke.of, names)
        hint = f'did you mean "{like}"?' if like else f"there are {', '.join(names)}"
        reading.fault(("smoke", index, "of"), f'no run is named "{smoke.of}"; {hint}')
    if smoke.get is not None and not smoke.get.startswith("/"):
        reading.fault(("smoke", index, "get"), f'"get" is a path on the run itself, such as "/"; not "{smoke.get}"')
    if smoke.get is None and (smoke.status or smoke.title or smoke.shows or smoke.assets is not None):
        reading.fault(("smoke", index), 'a [[smoke]] with status, title, shows or assets also needs "get"')
    elif smoke.get is None and smoke.exit is None and not smoke.prints:
        reading.fault(("smoke", index), '[[smoke]] checks nothing; give it "get", "exit" or "prints"')


def _check_pattern(pattern: str | None, keys: Keys, reading: _Reading) -> None:
    try:
        re.compile(pattern or "")
    except re.error as wrong:
        reading.fault(keys, f"{pattern!r} is not a regular expression: {wrong}")


_DURATION = re.compile(r"(\d+(?:\.\d+)?)\s*(ms|s|m|h)")
_UNITS = {"ms": 0.001, "s": 1.0, "m": 60.0, "h": 3600.0}


def seconds(duration: str) -> float:
    """Return the seconds that `60s`, `1.5m`, `200ms` or `1h` stand for; raises `ValueError`."""
    found = _DURATION.fullmatch(duration.strip())
    if not found:
        raise ValueError(f'"{duration}" is no duration; write for example "60s" or "2m"')
    return float(found[1]) * _UNITS[found[2]]


def _check_duration(duration: str, keys: Keys, reading: _Reading) -> None:
    try:
        seconds(duration)
    except ValueError as wrong:
        reading.fault(keys, str(wrong))
