"""Asking a program for its version, safely: no input, a time limit, bounded output, nothing left running."""

from __future__ import annotations

import errno
import os
import re
import selectors
import subprocess
import threading
import time
from collections.abc import Collection, Mapping
from fnmatch import fnmatchcase
from functools import lru_cache
from pathlib import Path
from typing import Any

import msgspec

from dokimon.core.expressions import expression
from dokimon.core.machine.catalogue import Ask
from dokimon.core.machine.platform import path_folders
from dokimon.core.processes.systems.face import kill_session
from dokimon.core.text import clean, without_sequences

LIMIT_SECONDS = 10.0
LIMIT_BYTES = 64 * 1024
_LONGEST_LINE = 1000
"""Characters of a line in which a version is looked for: patterns may take a time that grows with its square."""

_QUIET = {
    "LC_ALL": "C.UTF-8", "LANGUAGE": "", "NO_COLOR": "1", "TERM": "dumb", "PAGER": "cat", "GIT_PAGER": "cat",
    "CI": "1", "DO_NOT_TRACK": "1",
}  # fmt: skip
"""The variables that every tool gets: plain words, no colours, no pager, no dialogue, no telemetry."""

_WORDS = frozenset({"USER", "LOGNAME", "PATHEXT", "HOMEDRIVE", "HOMEPATH"})
_PLACES = (
    "HOME", "TMPDIR", "XDG_CACHE_HOME", "XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_STATE_HOME", "XDG_RUNTIME_DIR",
    "LD_LIBRARY_PATH", "DYLD_LIBRARY_PATH", "LOCALE_ARCHIVE",
    "SYSTEMROOT", "WINDIR", "COMSPEC", "USERPROFILE", "APPDATA", "LOCALAPPDATA", "PROGRAMDATA", "PROGRAMFILES", "TEMP",
    "TMP",
)  # fmt: skip
"""The variables that any program may need: who asks, which folders are the user's, and where libraries are.

Of all others a tool sees those that its catalogue entry names (`keeps`); none that names a place in the checkout.
"""

_A_PLACE_OR_A_VERSION = expression(r"/|[A-Za-z]:\\|v?\d+(?:\.\d+)*$")
"""What a variable that an entry keeps may hold: a relative path would start wherever the tool is asked."""


_asked: set[subprocess.Popen[bytes]] = set()
_abandoned = threading.Event()
_starting: set[int] = set()
"""The threads that are between starting a program and having it in `_asked`."""
_STARTING_SECONDS = 2.0


def abandon() -> None:
    """Kill every program that is being asked, and ask no more: each counts as one that did not answer."""
    _abandoned.set()
    deadline = time.monotonic() + _STARTING_SECONDS
    while _starting and time.monotonic() < deadline:
        time.sleep(0.001)
    for process in tuple(_asked):
        kill_session(process)


_LACKS_LIBRARY = expression(
    r"error while loading shared libraries: ([^\s:]+):|Library not loaded: (?:\S*/)?(\S+)"
    r"|Error loading shared library ([^\s:]+):"
)
"""What the loaders of glibc, macOS and musl say of a library that is missing."""


class ToolAnswer(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True):
    """What came back: the version, other facts that the tool gave about itself, or the reason why there is no version.

    `another` is the tool that it turned out to be instead, `fault` the kind of reason why it cannot be run. `seconds` is how
    long that took, `output` what was printed, without the sequences that colour it.
    """

    version: str | None = None
    facts: dict[str, str] = {}
    reason: str | None = None
    another: str | None = None
    fault: str | None = None
    seconds: float = 0.0
    output: str = ""


class Asker(msgspec.Struct, frozen=True):
    """How programs are asked: with which variables, and for which checkout, nothing of which may have a say.

    Their working directory is the root of the file system, where there are no project's settings: many tools read those
    of the folder they are asked in, and some start programs that such settings name.
    """

    environment: Mapping[str, str]
    checkout: Path

    def version(self, program: Path, how: Ask) -> ToolAnswer:
        """Run `program` as `how` says, and find the version in what it prints on either stream."""
        answer = self.output([str(program), *how.arguments], self.variables_for(how))
        output = "\n".join(line[:_LONGEST_LINE] for line in answer.output.split("\n"))
        for other, pattern in how.others.items():
            if re.search(pattern, output, re.MULTILINE):
                return ToolAnswer(another=other, seconds=answer.seconds)
        found = re.search(how.pattern, output, re.MULTILINE)
        if found is None:
            lacking = _LACKS_LIBRARY.search(output)
            if lacking:
                reason = f"needs the library {clean(next(filter(None, lacking.groups())), 80)}, which is not here"
                return msgspec.structs.replace(answer, reason=reason, fault="no library")
            return answer
        facts_found = ((name, re.search(pattern, output, re.MULTILINE)) for name, pattern in how.facts.items())
        facts = {name: clean(match[1], 80) for name, match in facts_found if match}
        return ToolAnswer(version=clean(found[1], 80), facts=facts, seconds=answer.seconds)

    def parts(self, program: Path, how: Ask, arguments: list[str]) -> ToolAnswer:
        """Run `program` for what it has loaded."""
        return self.output([str(program), *arguments], self.variables_for(how))

    def output(
        self, command: list[str], environment: dict[str, str] | None = None, folder: Path | None = None
    ) -> ToolAnswer:
        """Run a command to its end and return what it printed, with the reason where it did not end properly."""
        started = time.monotonic()
        folder = folder or Path(self.checkout.anchor)
        output, status, fault = _run(command, folder, environment or self.variables_for(Ask()))
        spent = time.monotonic() - started
        output = without_sequences(output)  # some colour their version in any case
        first_line = next((line for line in output.splitlines() if line.strip()), "")
        if fault is None and not first_line:
            fault = f"printed nothing and ended with status {status}"
        elif fault is None:
            ended = "" if status == 0 else f" and ended with status {status}"
            fault = f"printed no version but “{clean(first_line, 160)}”{ended}"
        return ToolAnswer(reason=fault, seconds=spent, output=output)

    def variables_for(self, how: Ask, also: Collection[str] = ()) -> dict[str, str]:
        """Return the variables for a program that is asked as `how` says: what it needs, and `also` these as they are."""
        given = _outside(tuple(self.environment.items()), self.checkout)
        places = {*_PLACES, *how.keeps}
        patterns = [each for each in how.keeps if not each.isidentifier()]
        kept = {
            name: value
            for name, value in given.items()
            if name in also
            or name in _WORDS
            or (
                (name in places or any(fnmatchcase(name, each) for each in patterns))
                and _A_PLACE_OR_A_VERSION.match(value)
            )
        }
        return {"PATH": given["PATH"], **kept, **_QUIET, **how.environment}


@lru_cache(maxsize=4)
def _outside(items: tuple[tuple[str, str], ...], checkout: Path) -> dict[str, str]:
    """Return the variables that name no place in the checkout, with a PATH that does not lead there."""
    roots = {str(checkout), os.path.realpath(checkout)}
    given = dict(items)
    # A tool that is a script finds the programs it calls on PATH: none of them may be the checkout's. Real names, since a
    # link to elsewhere may lead into the checkout by the time it is followed.
    places = [os.path.realpath(place) for place, absolute in path_folders(given, checkout) if absolute]
    folders = dict.fromkeys(place for place in places if not _leads_into(place, roots))
    kept = {name: value for name, value in items if name != "PATH" and not _leads_into(value, roots)}
    return {**kept, "PATH": os.pathsep.join(folders)}


def _leads_into(value: str, roots: Collection[str]) -> bool:
    """Whether the value of a variable names a place below one of `roots`, by this name or by another."""
    if any(root in value for root in roots):
        return True
    parts = (part for part in re.split(r"[=:;,\s]", value) if part.startswith("/"))
    return any(f"{os.path.realpath(part)}/".startswith(f"{root}/") for part in parts for root in roots)


def _started(command: list[str], folder: Path, environment: dict[str, str]) -> subprocess.Popen[bytes]:
    """Start a command; a script that names no interpreter as shells do (POSIX, "Command Search and Execution")."""
    streams: dict[str, Any] = {"stdin": subprocess.DEVNULL, "stdout": subprocess.PIPE, "stderr": subprocess.STDOUT}
    try:
        return subprocess.Popen(command, cwd=folder, env=environment, start_new_session=True, **streams)
    except OSError as wrong:
        if wrong.errno != errno.ENOEXEC or os.name == "nt":
            raise
    return subprocess.Popen(["/bin/sh", *command], cwd=folder, env=environment, start_new_session=True, **streams)


def _run(command: list[str], folder: Path, environment: dict[str, str]) -> tuple[str, int | None, str | None]:
    """Return the output, the exit status and, where it did not end properly, the reason."""
    thread = threading.get_ident()
    _starting.add(thread)  # before the look: whoever abandons waits for those that are on their way
    try:
        if _abandoned.is_set():
            return "", None, "was not asked: interrupted"
        process = _started(command, folder, environment)
        _asked.add(process)
    except OSError as wrong:
        return "", None, f"cannot be run: {wrong.strerror}"
    finally:
        _starting.discard(thread)
    assert process.stdout is not None
    deadline = time.monotonic() + LIMIT_SECONDS
    collected, fault = bytearray(), None
    with selectors.DefaultSelector() as selector, process.stdout:
        selector.register(process.stdout, selectors.EVENT_READ)
        while True:
            left = deadline - time.monotonic()
            if left <= 0:
                fault = f"did not answer within {LIMIT_SECONDS:g} seconds"
                break
            # A child that it left behind may hold the pipe open: what matters is that the tool itself has ended.
            if not selector.select(min(left, 0.2)):
                if process.poll() is not None:
                    break
                continue
            chunk = os.read(process.stdout.fileno(), 65536)
            collected += chunk
            if not chunk:
                break
            if len(collected) > LIMIT_BYTES:
                fault = f"printed more than {LIMIT_BYTES // 1024} KiB"
                break
    if fault is None:
        try:
            process.wait(max(0.0, deadline - time.monotonic()))
        except subprocess.TimeoutExpired:
            fault = f"did not end within {LIMIT_SECONDS:g} seconds"
    kill_session(process)
    process.wait()
    _asked.discard(process)
    if fault is None and process.returncode < 0:
        fault = f"was ended by signal {-process.returncode}"
    return bytes(collected[:LIMIT_BYTES]).decode("utf-8", "replace"), process.returncode, fault
