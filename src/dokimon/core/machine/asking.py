"""Asking a program for its version, safely: no input, a time limit, bounded output, nothing left running."""

from __future__ import annotations

import os
import re
import selectors
import subprocess
import time
from collections.abc import Mapping
from pathlib import Path

import msgspec

from dokimon.core.machine.catalogue import Ask
from dokimon.core.machine.platform import kill_session
from dokimon.core.text import clean, without_sequences

LIMIT_SECONDS = 10.0
LIMIT_BYTES = 64 * 1024

_QUIET = {
    "LC_ALL": "C.UTF-8", "LANGUAGE": "", "NO_COLOR": "1", "TERM": "dumb", "PAGER": "cat", "GIT_PAGER": "cat",
    "CI": "1", "DO_NOT_TRACK": "1",
}  # fmt: skip
"""What every tool is told: plain words, no colours, no pager, no dialogue, no reports home."""

_CODE_FROM_ENVIRONMENT = ("LD_PRELOAD", "LD_LIBRARY_PATH", "BASH_ENV", "ENV")
"""Variables that make a program load something else first; kept only when they name nothing in the checkout."""


_asked: set[subprocess.Popen[bytes]] = set()


def abandon() -> None:
    """Kill every program that is being asked at this moment; each then counts as one that did not answer."""
    for process in tuple(_asked):
        kill_session(process)


class Answer(msgspec.Struct, frozen=True):
    """What came back: the version found, or the reason why there is none, and how long it took in seconds."""

    version: str | None
    reason: str | None
    seconds: float


def ask(program: Path, how: Ask, folder: Path, environment: Mapping[str, str], checkout: Path) -> Answer:
    """Run `program` as `how` says, in `folder`, and find the version in what it prints on either stream."""
    started = time.monotonic()
    output, status, fault = _run([str(program), *how.arguments], folder, _guarded(environment, how, checkout))
    spent = time.monotonic() - started
    output = without_sequences(output)  # some colour their version whoever reads it
    found = re.search(how.pattern, output, re.MULTILINE)
    if found:
        return Answer(clean(found[1], 80), None, spent)
    if fault:
        return Answer(None, fault, spent)
    said = next((line for line in output.splitlines() if line.strip()), "")
    if not said:
        return Answer(None, f"printed nothing and ended with {status}", spent)
    ended = "" if status == 0 else f" and ended with {status}"
    return Answer(None, f"told no version but printed “{clean(said, 160)}”{ended}", spent)


def _guarded(environment: Mapping[str, str], how: Ask, checkout: Path) -> dict[str, str]:
    guarded = {name: value for name, value in environment.items() if name not in how.without}
    for name in _CODE_FROM_ENVIRONMENT:
        if str(checkout) in guarded.get(name, "") or not guarded.get(name, "/").startswith("/"):
            del guarded[name]
    return {**guarded, **_QUIET, **how.environment}


def _run(command: list[str], folder: Path, environment: dict[str, str]) -> tuple[str, int | None, str | None]:
    """Return the output, the exit status and, where it did not end properly, the reason."""
    try:
        process = subprocess.Popen(
            command,
            cwd=folder,
            env=environment,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            start_new_session=True,
        )
    except OSError as wrong:
        return "", None, f"cannot be run: {wrong.strerror}"
    assert process.stdout is not None
    _asked.add(process)
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
