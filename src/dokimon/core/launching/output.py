"""What a run prints: followed live, the whole in a log file, the end of it in memory."""

from __future__ import annotations

import threading
import time
from collections import deque
from collections.abc import Callable
from typing import BinaryIO

from dokimon.core.text import as_shown, clean

_KEPT_LINES = 400
_LONGEST_LINE = 4096
"""Bytes; what a program prints without ever ending the line is cut into pieces of this size."""

Listener = Callable[[str], None]


class Output:
    """The lines of one run, from both of its streams, in the order in which they came.

    `follow` starts reading a pipe in a thread of its own; `on_line` is called in that thread with each cleaned line.
    """

    def __init__(self, on_line: Listener | None = None) -> None:
        self._lines: deque[str] = deque(maxlen=_KEPT_LINES)
        self._lock = threading.Lock()
        self._on_line = on_line
        self._threads: list[threading.Thread] = []
        self.count = 0

    def follow(self, pipe: BinaryIO) -> None:
        """Read `pipe` to its end in the background."""
        thread = threading.Thread(target=self._read, args=(pipe,), daemon=True)
        self._threads.append(thread)
        thread.start()

    def last(self, count: int) -> tuple[str, ...]:
        """Return the last lines that are not empty, cleaned, oldest first."""
        with self._lock:
            kept = list(self._lines)
        return tuple(line for line in kept if line)[-count:] if count else ()

    def since(self, number: int) -> tuple[int, tuple[str, ...]]:
        """Return the count of lines so far, and those after the first `number` that are still kept."""
        with self._lock:
            new = min(self.count - number, len(self._lines))
            return self.count, tuple(list(self._lines)[len(self._lines) - new :]) if new > 0 else ()

    def wait(self, seconds: float) -> None:
        """Wait until the pipes have ended, at most `seconds`: a process left behind may keep one open."""
        deadline = time.monotonic() + seconds
        for thread in self._threads:
            thread.join(max(0.0, deadline - time.monotonic()))

    def _read(self, pipe: BinaryIO) -> None:
        with pipe:
            while line := pipe.readline(_LONGEST_LINE):
                shown = clean(as_shown(line.decode("utf-8", "replace")))
                with self._lock:
                    self._lines.append(shown)
                    self.count += 1
                if self._on_line and shown:
                    self._on_line(shown)
