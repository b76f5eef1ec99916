"""A report made fit to hand on: what it gives away of its user and machine is decided here, and only here.

Left out are the names of the host and the user, the homes of users, and the values of variables. docs/history.md lists what
stays.
"""

from __future__ import annotations

import os
import re
from collections.abc import Mapping
from functools import cached_property

import msgspec

from dokimon.core.expressions import expression
from dokimon.core.report.model import Report
from dokimon.core.report.texts import with_texts

_SHORTEST_NAME = 3
_SHORTEST_VALUE = 4
"""Characters; what is shorter is part of half of all words."""

_NAMES = frozenset({"HOME", "USER", "LOGNAME", "USERNAME", "HOSTNAME"})
"""Variables whose values are left out as what they are: a home, a user, a host."""

_OTHER_HOMES = expression(r"(?<![\w./~-])/(?:home|Users|var/home|export/home)/(?!\.)[^/\s:\"'`,;)]+(?=[/\s:\"'`,;)]|$)")

_OF_THE_SYSTEM = expression(
    r"PATH|PWD|OLDPWD|SHELL|TERM|LANG|LANGUAGE|LC_\w+|TZ|EDITOR|PAGER|SHLVL|COLORTERM|TERM_PROGRAM|XDG_\w+_(?:HOME|DIRS|DIR)"
    r"|NO_COLOR|CI|COLUMNS|LINES|HOSTTYPE|MACHTYPE|OSTYPE|PYTHON\w*|NODE_ENV|RAILS_ENV|APP_ENV|MIX_ENV|DEBIAN_FRONTEND"
)
"""Variables whose values say nothing of a person (homes in them are folded all the same)."""

_COMMON = frozenset({
    "root", "user", "admin", "administrator", "node", "python", "ruby", "php", "java", "www-data", "app", "test", "build",
    "runner", "docker", "vagrant", "ubuntu", "debian", "nobody", "daemon", "local", "localhost", "host", "default", "server",
    "web", "dev", "home", "main", "git", "jenkins", "circleci", "vscode", "developer", "linux", "builder",
})  # fmt: skip
"""Names that many machines have: to replace them would say nothing, and spoil the report."""


class Private:
    """What is private about who makes a report: the home, the name, the host, and the values of variables."""

    def __init__(
        self, environment: Mapping[str, str], values: Mapping[str, str] = {}, hosts: tuple[str, ...] = ()
    ) -> None:
        self._home = environment.get("HOME", "").rstrip("/")
        self._users = {environment.get(name, "") for name in ("USER", "LOGNAME", "USERNAME")} | {_login()}
        if self._home.startswith(("/home/", "/Users/")):
            self._users.add(self._home.split("/")[2])
        self._hosts = set(hosts) or {
            os.uname().nodename if hasattr(os, "uname") else "",
            environment.get("HOSTNAME", ""),
        }
        self._values = {**environment, **values}

    def of(self, text: str) -> str:
        """Return a text without what is private in it."""
        for pattern, put in self._patterns:
            text = pattern.sub(put, text)
        return text

    @cached_property
    def _patterns(self) -> list[tuple[re.Pattern[str], str]]:
        found: list[tuple[re.Pattern[str], str]] = []
        if values := self._private_values():
            alternatives = "|".join(map(re.escape, sorted(values, key=lambda value: (-len(value), value))))
            found.append((re.compile(rf"(?<![\w.-])(?:{alternatives})(?![\w-])"), "(a variable's value)"))
        homes = [self._home, os.path.realpath(self._home)] if len(self._home) > 1 else []
        for home in dict.fromkeys(homes):
            found.append((re.compile(rf"(?<![\w.-]){re.escape(home)}(?![\w-])"), "~"))
        found.append((_OTHER_HOMES, "~"))
        for names, put in ((self._hosts, "(host)"), (self._users, "(user)")):
            for name in sorted(
                {part for each in names for part in (each, each.partition(".")[0])}, key=len, reverse=True
            ):
                if len(name) >= _SHORTEST_NAME and name.lower() not in _COMMON:
                    found.append((re.compile(rf"(?<![A-Za-z0-9]){re.escape(name)}(?![A-Za-z0-9])", re.IGNORECASE), put))
        return found

    def _private_values(self) -> set[str]:
        """Return the values to leave out: not those of the system's own variables, no single numbers, and no folders."""
        found = set()
        for name, given in self._values.items():
            value = given.strip()
            if len(value) < _SHORTEST_VALUE or _OF_THE_SYSTEM.fullmatch(name) or name in _NAMES:
                continue
            if "\n" in value or value.lower() in _WORDS or re.fullmatch(r"[\d.]+|/[\w./+:~-]*", value):
                continue
            found.add(value)
        return found


_WORDS = frozenset({
    "true", "false", "none", "null", "yes", "auto", "always", "never", "production", "development", "test", "testing",
    "debug", "info", "warning", "error", "localhost", "http", "https", "utf-8", "c.utf-8", "en_us.utf-8", "default", "linux",
    "node", "python", "dumb", "vim", "nano", "less", "xterm", "xterm-256color", "truecolor", "root", "user", "0.0.0.0",
})  # fmt: skip


def _login() -> str:
    try:
        import pwd

        return pwd.getpwuid(os.getuid()).pw_name
    except (ImportError, KeyError, AttributeError, OSError):
        return ""


def shared(report: Report, private: Private) -> Report:
    """Return the report without what is private; words of a fixed choice, as verdicts, stay."""
    around = report.surroundings
    if around:
        around = msgspec.structs.replace(
            around,
            machine=None,
            listening=(),
            variables=dict.fromkeys(around.variables, ""),
            variables_in={file: dict.fromkeys(names, "") for file, names in around.variables_in.items()},
        )
    bare = msgspec.structs.replace(
        report, surroundings=around, picked_variables=dict.fromkeys(report.picked_variables, "…"), shared=True
    )
    return with_texts(bare, private.of, _KEPT_FIELDS)


_KEPT_FIELDS = frozenset({"format", "tool", "id", "language", "commit"})
"""Fields whose texts come from the catalogue, from Dokimon itself or from git."""


def folded(path: str) -> str:
    """Return a path with the home of whoever made it as `~`, so that those of two people can be held side by side."""
    return _OTHER_HOMES.sub("~", path.replace("/root/", "~/", 1) if path.startswith("/root/") else path)
