"""What the last smoke check of a checkout saw of each run, so that `dokimon init` can propose it as checks."""

from __future__ import annotations

import contextlib
import re
import time
from collections.abc import Sequence
from pathlib import Path

import msgspec

from dokimon.core.checks.fact import value_in_file
from dokimon.core.checks.http import PAGE_TITLE
from dokimon.core.checks.value_places import Place, PlaceFault
from dokimon.core.files import make_for_oneself, text_of, write_for_oneself
from dokimon.core.processes.logs import Logs
from dokimon.core.report.model import Run

_FILE = "seen.json"
_BEGINNING = 64 * 1024

# Where manifests say which version the project itself has: a JSON Pointer.
_VERSIONS = (("package.json", "/version"), ("pyproject.toml", "/project/version"), ("Cargo.toml", "/package/version"))


class Banner(msgspec.Struct, frozen=True):
    """A line of output that has the project's own version: a pattern for it, and the manifest that says the same."""

    pattern: str
    file: str
    at: str


class Seen(msgspec.Struct, frozen=True):
    """What was seen of one run that passed: the page's title, the addresses it listened on, its banner."""

    title: str | None = None
    listens: tuple[str, ...] = ()
    banner: Banner | None = None


class LastSeen(msgspec.Struct, frozen=True):
    """What was seen, by the names of the runs, and on which day (ISO 8601)."""

    day: str
    runs: dict[str, Seen]


def remember(runs: Sequence[Run], root: Path, logs: Logs) -> None:
    """Write down what was seen of the runs that passed, beside their logs; where none are kept, nothing is."""
    passed = {run.name: _seen(run, root) for run in runs if run.verdict == "passed"}
    if not passed or logs.folder is None:
        return
    with contextlib.suppress(OSError):
        make_for_oneself(logs.folder)
        write_for_oneself(logs.folder / _FILE, msgspec.json.encode(LastSeen(time.strftime("%Y-%m-%d"), passed)))


def recall(logs: Logs) -> LastSeen | None:
    """Return what the last smoke check saw, or None."""
    if logs.folder is None:
        return None
    try:
        return msgspec.json.decode((logs.folder / _FILE).read_bytes(), type=LastSeen)
    except (OSError, msgspec.DecodeError):
        return None


def _seen(run: Run, root: Path) -> Seen:
    title = next((fact.value for fact in run.facts if fact.name == PAGE_TITLE), None)
    return Seen(title or None, tuple(sorted({at.address for at in run.listening})), _banner(run, root))


def _banner(run: Run, root: Path) -> Banner | None:
    printed = text_of(Path(run.log), _BEGINNING) if run.log else ""
    for file, at in _VERSIONS:
        try:
            version = str(value_in_file(file, Place(at=at), root))
        except PlaceFault:
            continue
        found = re.search(rf"^.*?(\b[A-Za-z][\w-]*:? +)v?{re.escape(version)}(?![\w.]*\d)", printed, re.MULTILINE)
        if found and re.match(r"\d+\.\d", version):
            return Banner(rf"{re.escape(found[1]).replace(chr(92) + ' ', ' ')}v?(\d\S*)", file, at)
    return None
