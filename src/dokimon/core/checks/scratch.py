"""A folder for what a browser writes while it shows a page: removed afterwards, by the next one where Dokimon was killed."""

from __future__ import annotations

import os
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from dokimon.core.processes.systems.face import here

_PREFIX = "dokimon-browser-"


@contextmanager
def scratch() -> Iterator[Path]:
    """Make a folder for temporary files of this process, with those of processes that are gone swept away."""
    _sweep(Path(tempfile.gettempdir()))
    folder = tempfile.mkdtemp(prefix=f"{_PREFIX}{os.getpid()}-")
    try:
        yield Path(folder)
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def _sweep(where: Path) -> None:
    for old in where.glob(f"{_PREFIX}*"):
        number = old.name.removeprefix(_PREFIX).partition("-")[0]
        if number.isdecimal() and old.stat().st_uid == os.getuid() and not here().is_alive(int(number)):
            shutil.rmtree(old, ignore_errors=True)
