"""The catalogue: what is known of each tool, one TOML file each in `dokimon/catalogue/`."""

from __future__ import annotations

import tomllib
from functools import cache
from pathlib import Path

import msgspec

_FOLDER = Path(__file__).parents[2] / "catalogue"


class Ask(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How to ask a tool for its version: arguments, a pattern (its first group is the version), guards.

    `environment` keeps the tool from updating, fetching or asking back; `without` names variables it must not see.
    """

    arguments: list[str]
    pattern: str
    environment: dict[str, str] = {}
    without: list[str] = []


class Evidence(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A place in files that tells the version without running anything.

    `path` is relative to the folder that the program really lies in, or as it is named on PATH with
    `of = "named"`, and may hold wildcards. `pattern` is searched in the file's text, or in its path
    with `in = "path"`; its first group is the version. `program` limits this to programs of that file name.
    """

    path: str
    pattern: str
    of: str = "real"
    where: str = msgspec.field(default="text", name="in")
    program: str = "*"


class Remedy(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What to do where the tool is missing or of another version.

    `has` is a command that must be on PATH for this to make sense. `{wanted}` (in words), `{version}` (the lowest
    that will do), `{line}` (its first number) and `{pick}` (the only one that will do, else the line) are filled in;
    `only` limits it to `any-version` or `a-version`.
    """

    say: str
    command: str | None = None
    has: str | None = None
    only: str | None = None


class Tool(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A catalogue entry. `commands` are the names it goes by, the one that people type first.

    `homes` are folders in which copies usually lie that PATH does not reach, with wildcards, `~` and variables.
    `lines` are the lines of releases that are still maintained, oldest first, as of the date that the file names.
    """

    name: str
    title: str
    kind: str
    commands: list[str]
    ask: Ask
    evidence: list[Evidence] = []
    homes: list[str] = []
    lines: list[str] = []
    remedy: list[Remedy] = []


@cache
def known_tools() -> tuple[str, ...]:
    """Return the names of all tools in the catalogue, sorted."""
    return tuple(sorted(path.stem for path in _FOLDER.glob("*.toml")))


@cache
def find_tool(name: str) -> Tool | None:
    """Return the catalogue entry, or None when the catalogue has no such tool."""
    if name not in known_tools():
        return None
    return msgspec.convert(tomllib.loads((_FOLDER / f"{name}.toml").read_text("utf-8")), Tool)
