"""`dokimon.toml`: its text in, typed values or a list of faults out. See docs/configuration.md for every key."""

from __future__ import annotations

from typing import Literal

import msgspec

from dokimon.core.checks.spec import CheckSpec


class ProjectTable(msgspec.Struct, frozen=True):
    """`[project]`: its name, the size that the log of a run may reach (`"256 MB"` where nothing is said), and whether calls
    leave a record."""

    name: str | None = None
    largest_log: str | None = None
    record: bool = True


class ChoiceTable(msgspec.Struct, frozen=True, kw_only=True):
    """One of the tools or services of a need that `any` of several meets."""

    tool: str | None = None
    service: str | None = None
    version: str | None = None
    host: str = "127.0.0.1"
    port: int | None = None


class NeedTable(msgspec.Struct, frozen=True, kw_only=True):
    """`[[need]]`: one subject, the versions that will do, and why.

    The subject is a `tool` (`with` components, each with or without versions), `any` of several, an environment
    `variable`, a `path` that must be there, the operating `system` or `architecture`, the `memory` or free `disk` of the
    machine, or a `service` that listens on a `port`.
    """

    tool: str | None = None
    version: str | None = None
    components: list[str] = msgspec.field(default_factory=list, name="with")
    any: list[ChoiceTable] = []
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


class AskTable(msgspec.Struct, frozen=True):
    """`ask` of a tool that the project adds: a checkout has no say in more than which plain question is asked."""

    arguments: list[str] = msgspec.field(default_factory=lambda: ["--version"])


class ToolTable(msgspec.Struct, frozen=True, kw_only=True):
    """`[[tool]]`: a tool that the catalogue does not know, or more homes and commands of one that it knows."""

    name: str
    title: str | None = None
    kind: str = "command"
    commands: list[str] = []
    homes: list[str] = []
    ask: AskTable | None = None


class PrepareTable(msgspec.Struct, frozen=True, kw_only=True):
    """`[[prepare]]`: a command, needed only while what it makes is missing or older than what it is made from."""

    command: str
    title: str | None = None
    folder: str = msgspec.field(default=".", name="in")
    made_from: list[str] = msgspec.field(default_factory=list, name="from")
    makes: list[str] = []
    within: str = "30m"


class UpTable(msgspec.Struct, frozen=True, kw_only=True):
    """`up` of a run: what shows that it can be used.

    A `line` of output that matches a pattern (regular expression), a `file` that is there and new, or a path that
    answers with a success when one `get`s it.
    """

    line: str | None = None
    file: str | None = None
    get: str | None = None
    within: str = "3m"


class TargetTable(msgspec.Struct, frozen=True, kw_only=True):
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


class SerialTable(msgspec.Struct, frozen=True, kw_only=True):
    """`serial` of a run: what a board says on a `port` at a `speed` in baud is its output, `keys` are sent to it.

    With `reset` the board is reset first. It ends with a line that matches `until`, or after the time `listen`.
    """

    port: str
    speed: int = 115200
    reset: bool = False
    until: str | None = None
    listen: str | None = None


class RunTable(msgspec.Struct, frozen=True, kw_only=True):
    """`[[run]]`: a process to start. Without `kind` it is a server when it listens and a program when it ends.

    It is started `after` others, which stay up as long as it runs. With `terminal` it finds itself on one. `keys` are
    sent once it is up, `stop` are the keys that end it. `expose` says that other machines are meant to reach it, `harmless`
    are texts of lines that look like an error of it and are none. A run on a `serial` port needs no command; one that is
    given is carried out beside it.
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
    harmless: str | list[str] = []
    target: TargetTable | None = None
    serial: SerialTable | None = None
    up: UpTable = UpTable()


class Settings(msgspec.Struct, frozen=True, kw_only=True):
    """The whole file. `lines` gives the line of each table: `("run", 0)` for the first `[[run]]`."""

    format: int = 1
    project: ProjectTable = ProjectTable()
    need: list[NeedTable] = []
    tool: list[ToolTable] = []
    prepare: list[PrepareTable] = []
    run: list[RunTable] = []
    smoke: list[CheckSpec] = []
    lines: dict[str, list[int]] = {}

    def line(self, table: str, index: int) -> int:
        """Return the line (from 1) at which the `index`th `[[table]]` begins."""
        return self.lines[table][index]
