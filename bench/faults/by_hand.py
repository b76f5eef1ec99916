"""A project started by hand: its command in a shell, one look at its address, and what came of both."""

import os
import re
import shutil
import signal
import subprocess
import time
import urllib.error
import urllib.request
from contextlib import suppress
from pathlib import Path
from typing import Any, NamedTuple

UP_WITHIN, WATCHED = 40.0, 4.0
ENDED_BY_US = "still runs"
_CHANGES = re.compile(r"\d+|0x[0-9a-f]+|\S*/tmp/\S*")


class Seen(NamedTuple):
    """What a start by hand shows: how it ended (or that it still runs), what it answers, the lines that it wrote."""

    ended: str
    answered: str
    wrote: tuple[str, ...]


def started(project: dict[str, Any], port: int | None, folder: Path, variables: dict[str, str]) -> Seen:
    """Start a project in `folder` with the command that its data name, ask its `port` twice, and end all of it.

    A server gets 40 s to answer, anything is watched for 4 s more; a page is opened in Chromium, whose console is read too.
    """
    out = folder / ".by-hand"
    with out.open("wb") as file:
        run = subprocess.Popen(
            ["bash", "-c", project["by_hand"]],
            cwd=folder, env=variables, stdin=subprocess.DEVNULL, stdout=file, stderr=file, start_new_session=True,
        )  # fmt: skip
    try:
        answered = _asked(run, port, project["kind"]) if port else ""
        _wait(run, WATCHED if project["kind"] != "program" else UP_WITHIN)
        ended = ENDED_BY_US if run.poll() is None else f"exit status {run.returncode}"
    finally:
        _end(run)
    return Seen(ended, answered, tuple(out.read_text("utf-8", "replace").splitlines()))


def differs(harmed: Seen, whole: Seen) -> str:
    """Return in what a start of a harmed project differs from one of the same project unharmed; empty where it does not."""
    if whole.answered == "nothing listens":
        return "not known: unharmed, it does not start by hand here"
    if harmed.ended != whole.ended:
        return f"{harmed.ended}, not {whole.ended}"
    if _same(harmed.answered) != _same(whole.answered):
        return f"it answers {harmed.answered[:80]!r}, not {whole.answered[:80]!r}"
    known = {_same(line) for line in whole.wrote}
    return next((f"it writes {line[:120]!r}" for line in harmed.wrote if _same(line) not in known), "")


def _same(text: str) -> str:
    """Return a text without what changes from one start to the next: numbers and temporary names."""
    return _CHANGES.sub("#", text)


def _asked(run: "subprocess.Popen[bytes]", port: int, kind: str) -> str:
    until = time.monotonic() + UP_WITHIN
    while time.monotonic() < until and run.poll() is None:
        try:
            first = _answer(port)
        except (ConnectionRefusedError, urllib.error.URLError) as wrong:
            if "refused" not in str(wrong):
                return f"no answer: {wrong}"
            time.sleep(0.2)
            continue
        except OSError as wrong:
            return f"no answer: {wrong}"
        if kind == "page":
            return first + _opened(port)
        time.sleep(0.3)
        try:
            return f"{first} / {_answer(port)}"
        except OSError as wrong:
            return f"{first} / no answer: {wrong}"
    return "nothing listens"


def _answer(port: int) -> str:
    try:
        with urllib.request.urlopen(f"http://127.0.0.1:{port}/", timeout=5) as answer:
            return f"{answer.status} {answer.headers.get('Content-Type')} {answer.read().decode('utf-8', 'replace')}"
    except urllib.error.HTTPError as answer:
        return f"{answer.code} {answer.read().decode('utf-8', 'replace')}"


def _opened(port: int) -> str:
    """Return what Chromium makes of a page, with the errors of its console."""
    browser = shutil.which("chromium")
    if not browser:
        return ""
    ended = subprocess.run(
        [browser, "--headless", "--no-sandbox", "--enable-logging=stderr", "--virtual-time-budget=3000", "--dump-dom",
         f"http://127.0.0.1:{port}/"],
        capture_output=True, text=True, check=False, timeout=60,
    )  # fmt: skip
    console = [line.partition("CONSOLE")[2] for line in ended.stderr.splitlines() if "CONSOLE" in line]
    return "\n".join([ended.stdout, *console])


def _wait(run: "subprocess.Popen[bytes]", seconds: float) -> None:
    with suppress(subprocess.TimeoutExpired):
        run.wait(seconds)


def _end(run: "subprocess.Popen[bytes]") -> None:
    with suppress(ProcessLookupError):
        os.killpg(run.pid, signal.SIGKILL)
    run.wait()
