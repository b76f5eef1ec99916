"""What was seen of a tree's processes: by it they are ended where the warden is gone, and told where nobody can end them."""

from __future__ import annotations

import os
import signal
import threading
import time
from collections.abc import Iterable

import psutil

from dokimon.core.processes.process_table import command_of
from dokimon.core.processes.table_portable import below
from dokimon.core.text import clean

_LIMIT_SECONDS = 5.0
_LOOK_EVERY = 0.02


class Picture:
    """The processes of one tree as they were last seen, each with the time when it was started.

    A number alone is no process: it may be another's by now.
    """

    def __init__(self, warden: int) -> None:
        self._warden = warden
        self._started: dict[int, float] = {}
        self._lock = threading.Lock()

    def add(self, pids: Iterable[int]) -> None:
        """Remember these processes."""
        with self._lock:
            for pid in pids:
                if pid not in self._started and (started := _started(pid)) is not None:
                    self._started[pid] = started

    def living(self) -> list[int]:
        """Return those that live, with what else carries the mark of the warden, in ascending order."""
        self.add(below(self._warden))
        with self._lock:
            return sorted(pid for pid, started in self._started.items() if _lives(pid, started))

    def end(self) -> None:
        """Kill all of them, and what they start meanwhile, until none is left or a kill does nothing."""
        deadline = time.monotonic() + _LIMIT_SECONDS
        while (left := self.living()) and time.monotonic() < deadline:
            if not any([_killed(pid) for pid in left]):
                return
            time.sleep(_LOOK_EVERY)

    def in_words(self) -> tuple[str, ...]:
        """Return those that live, each with its command."""
        return tuple(clean(f"{pid} {command_of(pid)}", 160) for pid in self.living())


def _killed(pid: int) -> bool:
    """Kill a process; return whether that was allowed, or it was gone."""
    try:
        os.kill(pid, signal.SIGKILL)
    except ProcessLookupError:
        return True
    except OSError:
        return False
    return True


def _started(pid: int) -> float | None:
    try:
        return psutil.Process(pid).create_time()
    except (psutil.Error, OSError):
        return None


def _lives(pid: int, started: float) -> bool:
    try:
        process = psutil.Process(pid)
        return process.create_time() == started and process.status() != psutil.STATUS_ZOMBIE
    except (psutil.Error, OSError):
        return False
