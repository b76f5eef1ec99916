"""Version managers of this machine: which are here, and what only interactive shells get from them."""

from __future__ import annotations

import re
import shutil
import tomllib
from collections.abc import Mapping
from functools import cache
from pathlib import Path

import msgspec

from dokimon.core.files import text_of
from dokimon.core.machine.folders import folders_of, home_of

_STARTUP_FILES = (
    ".bashrc", ".bash_profile", ".bash_aliases", ".profile", ".zshrc", ".zshenv", ".zprofile",
    ".config/fish/config.fish",
)  # fmt: skip


class Manager(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What is known of a version manager; the keys are explained at the top of `version_managers.toml`."""

    marks: list[str]
    startup: str
    brings: list[str] = []
    shims: str | None = None
    variable: str | None = None
    files: list[str] = []
    roots: list[str] = []
    fallback: str | None = None
    program: str | None = None
    strips: list[str] = []
    prefixes: bool = False
    which: list[str] = []
    keeps: list[str] = []

    def roots_here(self, environment: Mapping[str, str]) -> list[Path]:
        """Return the folders in which it keeps its versions here."""
        return [root for written in self.roots for root in folders_of(written, environment)]


@cache
def managers() -> dict[str, Manager]:
    """Return all version managers that are known, by name."""
    data = tomllib.loads(Path(__file__).with_name("version_managers.toml").read_text("utf-8"))
    return msgspec.convert(data, dict[str, Manager])


def is_here(name: str, environment: Mapping[str, str]) -> bool:
    """Whether a command is on PATH, or a version manager of that name (often a shell function) is installed."""
    if shutil.which(name, path=environment.get("PATH", "")) is not None:
        return True
    manager = managers().get(name)
    marks = manager.marks if manager else []
    return any(path.exists() for mark in marks for path in folders_of(mark, environment))


class ShellOnly(msgspec.Struct, frozen=True):
    """A line of a shell's start-up file that gives a command to interactive shells alone."""

    file: str
    line: int
    how: str


def given_by_shells(command: str, environment: Mapping[str, str]) -> ShellOnly | None:
    """Return the first start-up line that makes `command` an alias, a function, or loads a manager that brings it."""
    home = home_of(environment)
    if home is None:
        return None
    name = re.escape(command)
    alias = re.compile(rf"\s*(?:alias\s+{name}(?:=|\s)|(?:function\s+)?{name}\s*\(\)|function\s+{name}\b)")
    loads = {
        manager: re.compile(rf"[^#]*(?:{known.startup})")
        for manager, known in managers().items()
        if command in known.brings
    }
    for relative in _STARTUP_FILES:
        for number, line in enumerate(text_of(home / relative).splitlines(), 1):
            if alias.match(line):
                return ShellOnly(f"~/{relative}", number, f"makes {command} an alias or a function")
            for manager, pattern in loads.items():
                if pattern.match(line):
                    return ShellOnly(f"~/{relative}", number, f"loads {manager}, which gives {command}")
    return None
