"""The catalogue: what is known of each tool, one TOML file each in `dokimon/catalogue/` and in one's own folder."""

from __future__ import annotations

import datetime
import re
import tomllib
from collections.abc import Collection, Mapping
from functools import cache
from pathlib import Path

import msgspec

from dokimon.core.faults import Fault

_SHIPPED = Path(__file__).parents[2] / "catalogue"

ANY_VERSION_NUMBER = r"(\d+(?:\.\d+)+[^\s,;:)\]\"']*)"
"""The pattern of a tool whose entry gives none: the first thing with dots that looks like a version."""


class Ask(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """How to ask a tool for its version: arguments, a pattern (its first group is the version), guards.

    `environment` keeps the tool from updating, fetching or asking back; `keeps` are wildcards of the variables that it
    needs beside PATH and the home, each passed on where it holds an absolute place or a version.
    `facts` are patterns for other versions and properties in the same output, by name; `others` are patterns
    that show it to be another tool of the same command. `never` says why a tool is not to be asked at all.
    """

    arguments: list[str] = msgspec.field(default_factory=lambda: ["--version"])
    pattern: str = ANY_VERSION_NUMBER
    environment: dict[str, str] = {}
    keeps: list[str] = []
    facts: dict[str, str] = {}
    others: dict[str, str] = {}
    never: str | None = None


class Evidence(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A place in files that has the version, so that nothing is run.

    `path` is relative to the real folder of the program; to the one in which it is named with
    `of = "named"`; or to the folder around it whose path ends in what `of` says. It may hold wildcards. `pattern` is
    searched in the file's text, in its path with `in = "path"`, or in the text of the file `inside` the archive that it
    is; its first group is the version. `program` limits
    this to programs of that file name. Of several matches the newest counts with `newest`, else none does.
    """

    path: str
    pattern: str
    of: str = "real"
    where: str = msgspec.field(default="text", name="in")
    program: str = "*"
    newest: bool = False
    inside: str | None = None


class ComponentSource(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Where the components of one kind are found.

    `called` makes the name that needs use out of the groups of the patterns (`ext-{name}`); `what` is the kind in
    words. `files` are wildcards, relative to the program's real folder or absolute; `{minor}` in them stands for the
    first two numbers of the copy's version. `path` is matched against the path of each, `text` against its text or,
    with `ask`, against what the program prints for these arguments: each match is one component, whose group `version`
    is its version. `otherwise` asks only where nothing of that name was found by the parts before.
    """

    called: str
    what: str
    files: list[str] = []
    path: str | None = None
    text: str | None = None
    ask: list[str] = []
    otherwise: bool = False

    @property
    def of_the_machine(self) -> bool:
        """Whether the components are the same whichever copy of the tool is meant."""
        return bool(self.files) and all(each[0] in "/~$" for each in self.files)


class ReleaseLines(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What is known of a tool's lines of releases `as_of` a date.

    `maintained`, oldest first, gets fixes (of Node.js: its long-term-support lines); `ended` gets none since the date;
    `unreleased` is not finished yet.
    """

    as_of: datetime.date
    maintained: list[str] = []
    ended: dict[str, datetime.date] = {}
    unreleased: list[str] = []

    def standing(self, version: str) -> str | None:
        """Return what one should know of the line that a version belongs to, or None."""
        for line, date in self.ended.items():
            if is_of_line(version, line):
                return f"the {line} line has had no fixes since {date:%B %Y}"
        for line in self.unreleased:
            if is_of_line(version, line):
                return f"the {line} line is not released yet (as of {self.as_of:%B %Y})"
        return None


def is_of_line(version: str, line: str) -> bool:
    """Whether a version belongs to a line of releases: 18.20.4 to 18, and to 18.20."""
    return version == line or version.startswith((f"{line}.", f"{line}-"))


class Recipe(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What to do where the tool is missing or of another version.

    `has` is a command or a version manager that must be here for this to make sense; `part` limits it to components
    whose name matches. `{wanted}` (in words), `{version}` (the lowest that will do), `{line}` (its first number),
    `{pick}` (the only one that will do, else the line) and `{part}` (the component's own name) are filled in; `only`
    limits it to `any-version` or `a-version`, `lines` to versions of these lines. A `whole` version is needed by a manager
    that takes no `3.1`. `{here}` are the first two numbers of the copy that is reached.
    """

    say: str
    command: str | None = None
    has: str | None = None
    only: str | None = None
    part: str | None = None
    lines: list[str] = []
    whole: bool = False


class Tool(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A catalogue entry. `commands` are the names it goes by, the one that people type first.

    `also` are wildcards of other names that copies have on PATH (`python3.[0-9]*`). `homes` are folders off PATH in which
    copies usually are, with wildcards, `~` and variables; `registry` the keys and values of
    the Windows registry that name such folders. `packages` are the names under which package managers of systems have
    it; one that names a version (`node@{pick}`) serves needs of a version too. `home_variables` are environment variables
    that name the tool's home, `wrappers` the names of scripts with which a project brings the tool itself.

    `runs_on` is the tool that it runs on itself (Maven on Java): without that it is met by nothing.

    `checkout_homes` are folders that a checkout names: what is in them is shown, and never run. A tool that
    `only_checkout` names is not run either, unless the user says so.
    """

    name: str
    title: str
    kind: str
    commands: list[str]
    also: list[str] = []
    ask: Ask = Ask()
    evidence: list[Evidence] = []
    homes: list[str] = []
    registry: list[str] = []
    packages: dict[str, str] = {}
    home_variables: list[str] = []
    wrappers: list[str] = []
    runs_on: str | None = None
    lines: ReleaseLines | None = None
    part: list[ComponentSource] = []
    remedy: list[Recipe] = []
    checkout_homes: list[str] = []
    only_checkout: bool = False


class CatalogueFault(Fault):
    """A file of one's own catalogue cannot be used; the reason says why."""


class Catalogue:
    """The tools that are known: those that ship, those of one's own folder, and what the project's settings add."""

    def __init__(
        self, own: Path | None = None, added: Mapping[str, Tool] | None = None, may_ask: Collection[str] = ()
    ) -> None:
        """`own` is the folder of one's own catalogue; `added` are the tools of a checkout, by name.

        `may_ask` are the commands that the user lets be asked although only the checkout names them.
        """
        self._own = own if own is not None and own.is_dir() else None
        self._added = dict(added or {})
        self._may_ask = frozenset(may_ask)
        self._found: dict[str, Tool | None] = {}

    def names(self) -> tuple[str, ...]:
        """Return the names of all tools, sorted."""
        own = {path.stem for path in self._own.glob("*.toml")} if self._own else set()
        return tuple(sorted({*known_tools(), *own, *self._added}))

    def find(self, name: str) -> Tool | None:
        """Return the entry, one's own before the one that ships, with what the project adds; None without one.

        Raises `CatalogueFault` where the file of one's own cannot be used.
        """
        if name not in self._found:
            self._found[name] = self._find(name)
        return self._found[name]

    def by_command(self, command: str) -> str | None:
        """Return the name of the tool of that name or that has this command; None where the catalogue knows neither."""
        names = self.names()
        if command in names:
            return command
        return next((name for name in names if (tool := self.find(name)) and command in tool.commands), None)

    def _find(self, name: str) -> Tool | None:
        own = self._own / f"{name}.toml" if self._own and re.fullmatch(r"[\w.+@-]+", name) else None
        known = _read(own) if own and own.is_file() else find_tool(name)
        added = self._added.get(name)
        if added is None:
            return known
        if known is None:
            return added if self._may_ask.issuperset(added.commands) else _not_asked(added)
        # A further command of a known tool would be run as that tool: it must be the user who says so.
        commands = [each for each in added.commands if each in known.commands or each in self._may_ask]
        return msgspec.structs.replace(
            known,
            checkout_homes=added.checkout_homes,
            commands=list(dict.fromkeys([*known.commands, *commands])),
        )


def _not_asked(tool: Tool) -> Tool:
    ask = msgspec.structs.replace(tool.ask, never="was not run: only this checkout names it")
    return msgspec.structs.replace(tool, ask=ask)


@cache
def known_tools() -> tuple[str, ...]:
    """Return the names of all tools that ship with Dokimon, sorted."""
    return tuple(sorted(path.stem for path in _SHIPPED.glob("*.toml")))


@cache
def find_tool(name: str) -> Tool | None:
    """Return the entry that ships with Dokimon, or None where there is none."""
    if name not in known_tools():
        return None
    return msgspec.convert(tomllib.loads((_SHIPPED / f"{name}.toml").read_text("utf-8")), Tool)


def _read(path: Path) -> Tool:
    """Return the entry in a file of one's own, its patterns tried; raises `CatalogueFault`."""
    try:
        tool = msgspec.convert(tomllib.loads(path.read_text("utf-8")), Tool)
        for pattern in (tool.ask.pattern, *(each.pattern for each in tool.evidence)):
            if re.compile(pattern).groups < 1:
                raise CatalogueFault(f"{path}: the pattern {pattern!r} needs a group that is the version")
        for pattern in (*tool.ask.facts.values(), *(each.path or each.text or "" for each in tool.part)):
            re.compile(pattern)
    except (OSError, ValueError, re.error, RecursionError) as wrong:  # TOML, Unicode and msgspec faults are ValueErrors
        raise CatalogueFault(f"{path}: {wrong}") from None
    if tool.name != path.stem:
        raise CatalogueFault(f'{path}: its name is "{tool.name}", but the file must be called {tool.name}.toml then')
    return tool
