"""Variables and hosts that the project's own files give, and that nobody has set here."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path

from dokimon.core.diagnosis.frames import frame_of
from dokimon.core.expressions import expression
from dokimon.core.files import text_of
from dokimon.core.planning.planners.containers import COMPOSE_FILES
from dokimon.core.report.model import Diagnosis, Remedy
from dokimon.core.smoking.looking_at_files import example_beside
from dokimon.core.smoking.shown.failure import Failure
from dokimon.core.text import clean

_UNKNOWN_HOST = expression(
    r"getaddrinfo (?:ENOTFOUND|EAI_AGAIN) (?P<host>[\w.-]+)|no such host|nxdomain|[Nn]ame or service not known"
    r"|nodename nor servname"
    r"|Temporary failure in name resolution|could not translate host name \"(?P<other>[\w.-]+)\""
)


def compose_host(failure: Failure) -> Diagnosis | None:
    """A name of a service of the compose file is known among its containers alone (compose-spec, "Networks")."""
    line = next((each.strip() for each in failure.lines if _UNKNOWN_HOST.search(each)), None)
    text = next((found for name in COMPOSE_FILES if (found := text_of(failure.folder / name))), "")
    if line is None or not text:
        return None
    services = re.findall(r"(?m)^  ([\w.-]+):[ \t]*$", text)
    said = " ".join(failure.lines[-60:])
    named = [each for each in services if re.search(rf"(?<![\w.-]){re.escape(each)}(?![\w-])", said)]
    names = named or services
    if not names:
        return None
    listed = ", ".join(names[:4])
    return Diagnosis(
        name="compose-host",
        cause=f"a host has no address here: {clean(listed, 80)} is one among the containers of the compose file alone",
        line=clean(line, 240),
        remedies=(
            Remedy(f"start {clean(names[0], 60)} and publish its port", f"docker compose up -d {names[0]}"),
            Remedy("then let the project's settings name localhost in place of it"),
        ),
    )


def unknown_host(failure: Failure) -> Diagnosis | None:
    """The host that a line of code in a stack names, where the error itself does not."""
    for number, line in enumerate(failure.lines):
        found = _UNKNOWN_HOST.search(line)
        if not found or found["host"] or found["other"]:
            continue
        above = " ".join(failure.lines[max(number - 8, 0) : number])
        code, _ = _code_at(frame_of(failure.lines, number, failure.root), failure.root)
        hosts = _A_HOST.findall(above) or _A_HOST.findall(code)
        if hosts:
            return Diagnosis(
                name="host-unknown",
                cause=f"no host is called {clean(hosts[-1], 80)} here",
                line=clean(line.strip(), 240),
                remedies=(Remedy("is it spelt right, is this machine online, and is it a name of another network?"),),
            )
    return None


def _code_at(at: str | None, root: Path) -> tuple[str, list[str]]:
    """Return the line of code that a place (`file:line`, below the root) names, and all the lines of its file."""
    place, _, number = (at or "").rpartition(":")
    lines = text_of(root / place, _LONGEST_CODE).splitlines() if place and number.isdecimal() else []
    return (lines[int(number) - 1] if 0 < int(number or 0) <= len(lines) else ""), lines


_LONGEST_CODE = 200_000
_A_HOST = expression(r"[\"'(]((?:[a-z0-9-]+\.)+[a-z][a-z0-9-]+)[\"',)]")


def dotenv_unread(failure: Failure) -> Diagnosis | None:
    """A variable that .env gives, and that is not there all the same: nothing has read the file."""
    given = set(re.findall(r"(?m)^\s*(?:export\s+)?(\w+)\s*=", text_of(failure.folder / ".env")))
    for line in reversed(failure.lines):
        found = _NAMES_A_VARIABLE.search(line)
        name = next((each for each in found.groups() if each), None) if found else None
        if name in given:
            return Diagnosis(
                name="dotenv-unread",
                cause=f".env gives {name}, and nothing has read it: the variable is not set where the project runs",
                line=clean(line.strip(), 240),
                remedies=(Remedy("set it from there for this shell", "set -a; . ./.env; set +a"),),
            )
    return None


_NAMES_A_VARIABLE = expression(
    r"KeyError: '(\w+)'|(?:variable|env(?:ironment)?)\b.{0,80}?\b([A-Z][A-Z0-9_]{2,})\b|\b([A-Z][A-Z0-9_]{2,}) (?:is|must)\b"
)


_READS = expression(
    r"os\.environ\[['\"](\w+)['\"]\]|os\.(?:getenv|environ\.get)\(\s*['\"](\w+)['\"]\s*\)|process\.env\.(\w+)|process\.env\[['\"](\w+)"
    r"|import\.meta\.env\.(\w+)|System\.getenv\(\"(\w+)\"\)|os\.Getenv\(\"(\w+)\"\)|ENV\[['\"](\w+)['\"]\]|getenv\(['\"](\w+)['\"]\)"
    r"|GetEnvironmentVariable\(\"(\w+)\"\)|env::var\(\"(\w+)\"\)|System\.get_env\(\"(\w+)\"\)|\$ENV\{['\"]?(\w+)"
)
"""How each language reads a variable of the environment."""

_HAS_DEFAULT = expression(r"^[\s)]*(?:\|\||\?\?|or\b|, )")


def variable_read_at(found: Diagnosis, root: Path, environment: Mapping[str, str]) -> Diagnosis | None:
    """Return the variable that the line of code which failed reads, where that is not set: it had a value of nothing.

    The line may read it itself, or a name that a line of the same file gives its value to.
    """
    failed, lines = _code_at(found.at, root)
    place = (found.at or "").rpartition(":")[0]
    for line in (failed, *lines) if failed else ():
        for read in _READS.finditer(line):
            name = next(each for each in read.groups() if each)
            given = re.match(r"\s*(?:(?:const|let|var|my|final|String)\s+)?\$?(\w+)\s*:?=", line)
            uses = line is failed or (given and re.search(rf"(?<![\w.]){given[1]}\b", failed))
            if uses and name not in environment and not _HAS_DEFAULT.match(line[read.end() :]):
                return Diagnosis(
                    name="variable-missing",
                    cause=f"the environment variable {name}, which {clean(place, 120)} reads, is not set",
                    line=found.line,
                    at=found.at,
                    remedies=(*example_beside(root / ".env", root), Remedy(f"set {name}", f"export {name}=…")),
                )
    return None


def port_at(found: Diagnosis, root: Path) -> int | None:
    """Return the port that the line of code which could not listen names, where the error itself does not."""
    named = re.search(r"[,:(=]\s*(\d{4,5})\b", _code_at(found.at, root)[0])
    return int(named[1]) if named else None
