"""The processes of a Procfile, one a line (`web: gunicorn app:app`); `release` is none to keep running."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

from dokimon.core.expressions import expression
from dokimon.core.files import text_of

_LINE = expression(r"^([A-Za-z][\w-]*)[ \t]*:[ \t]*(\S.*)$")


class Process(NamedTuple):
    """A process: its name, its command, and the line that says so with its number, from 1."""

    name: str
    command: str
    number: int
    line: str


def procfile_of(folder: Path) -> Path | None:
    """Return the Procfile that counts where a developer starts it; None where there is none."""
    return next((path for name in ("Procfile.dev", "Procfile") if (path := folder / name).is_file()), None)


def processes_in(path: Path) -> list[Process]:
    """Return its processes, in their order."""
    lines = enumerate(text_of(path).splitlines(), 1)
    found = [(number, match) for number, line in lines if (match := _LINE.match(line))]
    return [Process(match[1], match[2], number, match[0]) for number, match in found if match[1] != "release"]
