"""`dokimon.toml`: its text in, typed values or a list of faults out. See docs/configuration.md for every key."""

from __future__ import annotations

import re
from typing import Any, Literal, TypeVar

import msgspec

from dokimon.core.checks.wanted import Wanted
from dokimon.core.declarations.manifest import Keys, Manifest, ManifestFault, as_toml, toml_line
from dokimon.core.text import nearest


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
    """`up` of a run: what shows that it can be used.

    A `line` of output that matches a pattern (regular expression), a `file` that is there and new, or a path that
    answers with a success when one `get`s it.
    """

    line: str | None = None
    file: str | None = None
    get: str | None = None
    within: str = "3m"


class Target(msgspec.Struct, frozen=True):
    """`target` of a run: a device or an emulator that must be attached before it.

    The command `list` shows them, the pattern `line` finds them in its lines (its first group is the name that `{target}`
    stands for). One may be awaited `within` a time, or be started by the command `start`; with `each`, the run is carried
    out on all of them.
    """

    list: str
    line: str
    within: str = "60s"
    start: str | None = None
    each: bool = False


class Serial(msgspec.Struct, frozen=True):
    """`serial` of a run: what a board says on a `port` at a `speed` in baud is its output, `keys` are sent to it.

    With `reset` the board is reset first. It ends with a line that matches `until`, or after the time `listen`.
    """

    port: str
    speed: int = 115200
    reset: bool = False
    until: str | None = None
    listen: str | None = None


class Run(msgspec.Struct, frozen=True):
    """`[[run]]`: a process to start. Without `kind` it is a server when it listens and a program when it ends.

    It is started `after` others, which stay up as long as it runs. With `terminal` it finds itself on one. `keys` are
    sent once it is up, `stop` are the keys that end it. `expose` says that other machines are meant to reach it. A run on a
    `serial` port needs no command; one that is given is carried out beside it.
    """

    name: str
    command: str | None = None
    folder: str = msgspec.field(default=".", name="in")
    kind: Literal["server", "program"] | None = None
    port: int | Literal["any"] | None = None
    environment: dict[str, str] = {}
    after: str | list[str] = []
    terminal: bool = False
    keys: str | list[str] = []
    stop: str | None = None
    expose: bool = False
    target: Target | None = None
    serial: Serial | None = None
    up: Up = Up()


class Settings(msgspec.Struct, frozen=True):
    """The whole file. `lines` gives the line of each table: `("run", 0)` for the first `[[run]]`."""

    format: int = 1
    project: Project = Project()
    need: list[Need] = []
    tool: list[AddedTool] = []
    prepare: list[Prepare] = []
    run: list[Run] = []
    smoke: list[Wanted] = []
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
    "need": Need, "tool": AddedTool, "prepare": Prepare, "run": Run,
}  # fmt: skip
_Table = TypeVar("_Table", bound=msgspec.Struct)


def read_settings(manifest: Manifest) -> Settings:
    """Return the settings that the text holds; raises `SettingsFault` with everything that is wrong in it."""
    try:
        data = as_toml(manifest)
    except ManifestFault as wrong:
        raise SettingsFault(manifest.name, [Fault(wrong.line, wrong.reason)]) from None
    reading = Reading(manifest.text)
    reading.unknown_keys(data, ["format", "project", *_TABLES, "smoke"], (), "dokimon.toml")
    if data.get("format") != 1:
        line = toml_line(manifest.text, ("format",)) if "format" in data else 1
        reading.fault_at(line, "the file must say `format = 1`, the one format that this Dokimon reads")
    project = reading.table(data.get("project", {}), Project, ("project",), "[project]") or Project()
    tables: dict[str, list[Any]] = {
        name: reading.array(data.get(name, []), kind, name) for name, kind in _TABLES.items()
    }
    tables["smoke"] = []
    if data.get("smoke"):
        from dokimon.core.settings_checks import read_checks

        tables["smoke"] = read_checks(data["smoke"], reading)
    if not reading.faults:
        from dokimon.core.settings_meaning import check_meaning

        check_meaning(tables, reading)
    if reading.faults:
        raise SettingsFault(manifest.name, reading.faults)
    lines = {name: [toml_line(manifest.text, (name, i)) for i in range(len(tables[name]))] for name in tables}
    return Settings(1, project, **tables, lines=lines)


class Reading:
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
        for name, inner in _inner_tables(kind).items():
            if isinstance(given.get(name), dict):
                self.unknown_keys(given[name], _keys_of(inner), (*at, name), f"`{name}` of {where}")
        if kind is Run and "command" not in given and "serial" not in given:
            self.fault(at, f'{where} needs the key "command"')
        try:
            return msgspec.convert(given, kind)
        except msgspec.ValidationError as wrong:
            says, _, path = str(wrong).partition(" - at ")
            keys = tuple(re.findall(r"[A-Za-z_]+", path))
            self.fault((*at, *keys), _in_plain_words(says, ".".join(keys), where))
            return None


def _inner_tables(kind: type[msgspec.Struct]) -> dict[str, type[msgspec.Struct]]:
    """Return the keys of a table that are tables of one type themselves."""
    found: dict[str, type[msgspec.Struct]] = {}
    for field in msgspec.structs.fields(kind):
        for each in getattr(field.type, "__args__", (field.type,)):
            if isinstance(each, type) and issubclass(each, msgspec.Struct) and "dict" not in str(field.type):
                found[field.encode_name] = each
    return found


def _keys_of(kind: type[msgspec.Struct]) -> list[str]:
    return [field.encode_name for field in msgspec.structs.fields(kind)]


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
