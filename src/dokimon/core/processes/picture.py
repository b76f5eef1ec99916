"""What was seen of a tree's processes: by it they are ended where the warden is gone, and told where nobody can end them."""

from __future__ import annotations

import contextlib
import os
import select
import signal
import threading
import time
from collections.abc import Iterable
from pathlib import Path

from dokimon.core.machine.platform import LINUX
from dokimon.core.processes.process_table import command_of
from dokimon.core.text import clean

_LIMIT_SECONDS = 5.0
_LOOK_EVERY = 0.02
_MOST_HANDLES = 200

BLIND = "the list of processes, /proc, is no longer there: what the run started may live on"


class Picture:
    """The processes of one tree as they were last seen. A number alone is no process: it may be another's by now."""

    def __init__(self, warden: int) -> None:
        self._warden = warden
        self._seen: dict[int, _Process] = {}
        self._lock = threading.Lock()

    def add(self, pids: Iterable[int]) -> None:
        """Remember these processes."""
        with self._lock:
            for pid in pids:
                if pid not in self._seen:
                    self._seen[pid] = _Process(pid, len(self._seen) < _MOST_HANDLES)

    def _living(self) -> list[_Process]:
        """Return those that live, with what else carries the mark of the warden, in ascending order."""
        from dokimon.core.processes.table_portable import below  # late: it brings psutil, as what is below does

        self.add(below(self._warden))
        with self._lock:
            return [each for _, each in sorted(self._seen.items()) if each.lives()]

    def end(self) -> None:
        """Kill all of them, and what they start meanwhile, until none is left or a kill does nothing."""
        deadline = time.monotonic() + _LIMIT_SECONDS
        while (left := self._living()) and time.monotonic() < deadline:
            killed = [each.kill() for each in left]
            if not any(killed):
                return
            time.sleep(_LOOK_EVERY)

    def in_words(self) -> tuple[str, ...]:
        """Return those that live, each with its command."""
        left = [clean(f"{each.pid} {command_of(each.pid)}", 160) for each in self._living()]
        return (*left, BLIND) if LINUX and not Path("/proc/self/stat").exists() else tuple(left)

    def forget(self) -> None:
        """Let go of what was held of them."""
        with self._lock:
            for each in self._seen.values():
                each.forget()
            self._seen.clear()


class _Process:
    """One process: held by a handle of the kernel where there are some (Linux: pidfd_open(2)), else known by its start."""

    def __init__(self, pid: int, with_handle: bool) -> None:
        self.pid = pid
        self._handle: int | None = None
        self._started: float | None = None
        if with_handle and hasattr(os, "pidfd_open"):
            with contextlib.suppress(OSError):
                self._handle = os.pidfd_open(pid)
        if self._handle is None:
            self._started = _started(pid)

    def lives(self) -> bool:
        if self._handle is None:
            return self._started is not None and _lives(self.pid, self._started)
        poll = select.poll()
        poll.register(self._handle, select.POLLIN)  # it becomes readable when the process has ended
        return not poll.poll(0)

    def kill(self) -> bool:
        """Kill it; return whether that was allowed, or it was gone."""
        try:
            if self._handle is None:
                os.kill(self.pid, signal.SIGKILL)
            else:
                signal.pidfd_send_signal(self._handle, signal.SIGKILL)
        except ProcessLookupError:
            return True
        except OSError:
            return False
        return True

    def forget(self) -> None:
        if self._handle is not None:
            os.close(self._handle)
            self._handle = None


def _started(pid: int) -> float | None:
    import psutil

    try:
        return psutil.Process(pid).create_time()
    except (psutil.Error, OSError):
        return None


def _lives(pid: int, started: float) -> bool:
    import psutil

    try:
        process = psutil.Process(pid)
        return process.create_time() == started and process.status() != psutil.STATUS_ZOMBIE
    except (psutil.Error, OSError):
        return False
