"""What was seen of a tree's processes: by it they are ended where the warden is gone, and told where nobody can end them."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterable

from dokimon.core.processes.systems.face import command_of, here
from dokimon.core.processes.systems.values import Handle
from dokimon.core.text import clean

_LIMIT_SECONDS = 5.0
_LOOK_EVERY = 0.02
_MOST_HANDLES = 200

BLIND = "the list of processes, /proc, is no longer there: what the run started may live on"


class Picture:
    """The processes of one tree as they were last seen. A number alone is no process: it may be another's by now."""

    def __init__(self, warden: int) -> None:
        self._warden = warden
        self._seen: dict[int, Handle] = {}
        self._lock = threading.Lock()

    def add(self, pids: Iterable[int]) -> None:
        """Remember these processes."""
        with self._lock:
            for pid in pids:
                if pid not in self._seen:
                    self._seen[pid] = here().handle(pid, exact=len(self._seen) < _MOST_HANDLES)

    def _living(self) -> list[Handle]:
        """Return those that live, with what else carries the mark of the warden, in ascending order."""
        from dokimon.core.processes.systems.portable import below  # late: it brings psutil

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
        return (*left, BLIND) if here().is_blind() else tuple(left)

    def forget(self) -> None:
        """Let go of what was held of them."""
        with self._lock:
            for each in self._seen.values():
                each.forget()
            self._seen.clear()
