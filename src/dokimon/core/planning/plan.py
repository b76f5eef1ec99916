"""A plan: what `smoke` will do, with where each part of it was read or inferred from. Values only."""

from __future__ import annotations

import shlex
from collections.abc import Mapping
from enum import IntEnum
from pathlib import Path
from typing import Literal

import msgspec

from dokimon.core.checks.carrying_out import PlannedCheck
from dokimon.core.faults import Fault
from dokimon.core.machine.platform import shell_command
from dokimon.core.source import Source
from dokimon.core.words import filled, filled_for_shell

PREPARE_SECONDS = 30 * 60.0
"""The first installation may download for minutes."""
UP_SECONDS = 3 * 60.0
"""A first start may compile or download; a run that ends meanwhile is reported at once."""
PROGRAM_SECONDS = 3 * 60.0


class Rank(IntEnum):
    """How well a way to start a project stands among others: the lowest is taken, the others are listed.

    What starts all parts comes first, then what a framework's own files show, a script that people start by, a file of
    processes, a command that the project builds or installs, a task, and a lone file. A proposal is only shown, and
    carried out when it is asked for by name.
    """

    STARTS_ALL = 10
    FRAMEWORK = 20
    SCRIPT = 30
    PROCESSES = 40
    COMMAND = 50
    TASK = 60
    FILE = 70
    PROPOSAL = 90


RunKind = Literal["server", "program"] | None
"""What a run is; None where only the run itself will show it."""


class PrepareStep(msgspec.Struct, frozen=True, kw_only=True):
    """A prepare step. `needed` says why it must be done now; None means that it need not, and `reason` why.

    `command` is an argument list, or a line for the shell. `makes` are paths that must be there afterwards.
    """

    title: str
    command: str | tuple[str, ...]
    folder: Path
    source: Source
    needed: str | None
    reason: str = "it is there and up to date"
    environment: dict[str, str] = {}
    words: dict[str, str] = {}
    makes: tuple[Path, ...] = ()
    within: float = PREPARE_SECONDS


class TargetPlan(msgspec.Struct, frozen=True, kw_only=True):
    """A device or emulator that a run needs: see `[[run]]`'s `target`; `within` in seconds."""

    list_command: str
    line: str
    within: float
    start: str | None = None
    each: bool = False


class RunPlan(msgspec.Struct, frozen=True, kw_only=True):
    """A run to carry out. `{port}` in `command` stands for the port that it is given, other names in braces for `words`.

    `kind` None means that the run itself will show whether it is a server or a program. `port` is where it is expected
    to listen, `any` a free port of Dokimon's choice; with `may_move`, a free one is taken where `port` is held. What
    listens is asked for its root page, unless its `checks` ask it for something. It is started `after` others, and up
    once a line matches `up_line`, `up_file` is there and new, or `up_get` answers with a success; without any of these
    once it answers. `shown_as` stands for its command in reports, where that is not a command to type; `lacks` says why
    it cannot be carried out here, `rank` how well it stands among the ways to start the project; `harmless` are texts of
    lines that look like an error of it and are none. `published` are ports that a container engine opens for it, outside
    of its own processes; `paths` are those of the server that its project names; `afterwards` is a command that is carried
    out once it has been stopped, however that was.
    """

    name: str
    command: str | tuple[str, ...]
    folder: Path
    source: Source
    kind: RunKind = None
    port: int | Literal["any"] | None = None
    may_move: bool = False
    environment: dict[str, str] = {}
    words: dict[str, str] = {}
    up_line: str | None = None
    up_file: Path | None = None
    up_get: str | None = None
    within: float = UP_SECONDS
    after: tuple[str, ...] = ()
    terminal: bool = False
    keys: tuple[str, ...] = ()
    stop: str | None = None
    expose: bool = False
    harmless: tuple[str, ...] = ()
    target: TargetPlan | None = None
    shown_as: str | None = None
    lacks: str | None = None
    checks: tuple[PlannedCheck, ...] = ()
    published: tuple[int, ...] = ()
    paths: tuple[str, ...] = ()
    afterwards: tuple[str, ...] = ()
    rank: Rank = Rank.FILE

    @property
    def in_words(self) -> str:
        """The command as a person would type it, or what stands for one."""
        return self.shown_as or shown(self.command, self.folder, self.words)

    @property
    def picks_own_port(self) -> bool:
        """Whether it may listen on a port that Dokimon did not choose for it."""
        return self.kind != "program" and self.port != "any" and not self.may_move

    @property
    def draws_window(self) -> bool:
        """Whether it is a desktop program: a window is looked for."""
        return any(each.spec.draws_window for each in self.checks)

    @property
    def asks_server(self) -> bool:
        """Whether a check asks for something that only a server answers."""
        return any(each.spec.asks_server for each in self.checks)

    @property
    def is_command(self) -> bool:
        """Whether it is a command that the project builds or installs, of which nobody said how it is called."""
        return self.rank is Rank.COMMAND and self.kind is None and not self.checks

    @property
    def expected_exit(self) -> int | None:
        """The exit status that a check says it must end with, or None."""
        return next((e for each in self.checks if (e := each.spec.expected_exit) is not None), None)


class Plan(msgspec.Struct, frozen=True, kw_only=True):
    """The prepare steps in order, then the runs in order.

    `words` are the values for braces in the commands of `dokimon.toml`, `environment` the variables that its
    commands need: what an ecosystem's planner found out also serves commands that people wrote. `checkout` are the checks
    that look at the checkout when all is over, `others` the other ways to start the project.
    """

    prepare: tuple[PrepareStep, ...] = ()
    runs: tuple[RunPlan, ...] = ()
    words: dict[str, str] = {}
    environment: dict[str, str] = {}
    checkout: tuple[PlannedCheck, ...] = ()
    others: tuple[RunPlan, ...] = ()


class PlanContext(msgspec.Struct, frozen=True, kw_only=True):
    """What planners know: the checkout's root, the project's folder in it, the environment, the tools found."""

    root: Path
    folder: Path
    environment: dict[str, str]
    tools: dict[str, str]
    """The path of the copy of each tool that a command reaches here."""

    def command(self, tool: str, otherwise: str) -> str:
        """Return the command by which a tool is reached here: `python` on one machine is `python3` on another."""
        return Path(self.tools.get(tool, otherwise)).name

    def source(self, path: Path, line: int = 1, text: str = "") -> Source:
        """Return the source for a line of a file of the checkout."""
        return Source(path.relative_to(self.root).as_posix(), line, text)


def shown(command: str | tuple[str, ...], folder: Path, words: Mapping[str, str] | None = None) -> str:
    """Return a command as a person would type it in `folder`, with what is known of its `words` filled in."""
    if isinstance(command, str):
        return filled_for_shell(command, words or {})
    return shlex.join(filled(part, words or {}).removeprefix(f"{folder}/") for part in command)


def argv_of(command: str | tuple[str, ...], words: Mapping[str, str]) -> list[str]:
    """Return the argument list that carries out a command, with its `words` filled in."""
    if isinstance(command, str):
        return shell_command(filled_for_shell(command, words))
    return [filled(part, words) for part in command]


class PlanFault(Fault):
    """There is no plan; the reason says what was looked for, or between what to choose."""
