"""What a run prints: followed live, the whole in a log file, its beginning and its end in memory.

A run may print faster than Python can look at single lines. So what comes is kept as it is: the log gets every byte,
line ends are counted, a pattern is searched in whole pieces, and lines are made only of what somebody asks for.
"""

from __future__ import annotations

import os
import re
import select
import threading
import time
from collections import deque
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import IO, Any

from dokimon.core.expressions import expression
from dokimon.core.patterns import SECONDS
from dokimon.core.processes.log_file import LARGEST_BYTES, LogFile
from dokimon.core.processes.masking import Mask
from dokimon.core.processes.systems.face import here
from dokimon.core.text import as_shown, clean, without_sequences

_FIRST_BYTES = 64 * 1024
_LAST_BYTES = 256 * 1024
_KEPT_LINES = 400
_MOST_TEXT = 4 * 1024 * 1024
"""Bytes of output that checks look into."""

_PIECE = 1 << 20
_LONGEST_LINE = 4096
"""Bytes; what a program prints without ever ending the line is cut into lines of this size."""

_WARNINGS_IN_BYTES = 4 * 1024 * 1024
"""Warnings are counted in the first 4 MiB only."""

_TELL_EVERY = 0.04
"""Seconds between two lines that a listener hears of, where there are many."""

_IDLE_SECONDS = 0.15

_WARNING = expression(rb"\bwarn(?:ing)?s?\b|\bdeprecat", re.IGNORECASE)

Listener = Callable[[str], None]
Follower = Callable[[str, bool], None]
"""Hears a line, and whether it came on the stream for errors."""


class Output:
    """The lines of one run, from all of its streams, in the order in which they came.

    `follow` starts reading a stream in a thread of its own; `on_line` is called in that thread with the newest line now
    and then, `on_every_line` with each, cleaned. `log` is the file that gets everything, with `secrets` masked, up
    to `largest` bytes; None where none can be written.
    """

    def __init__(
        self,
        on_line: Listener | None = None,
        log: Path | None = None,
        secrets: Iterable[bytes] = (),
        on_every_line: Follower | None = None,
        largest: int = LARGEST_BYTES,
    ) -> None:
        self._on_every_line = on_every_line
        self._first = b""
        self._last: deque[bytes] = deque()
        self._last_size = 0
        self._lock = threading.Lock()
        self._news = threading.Condition(self._lock)
        self._on_line = on_line
        self._told = 0.0
        self._threads: list[threading.Thread] = []
        self._mask = Mask(secrets)
        self._wanted: Any = None
        self._closed = False
        self.gave_up = False
        self._size = 0
        self.found: str | None = None
        self.count = 0
        self.warnings = 0
        self.is_on_screen = False
        self.log = log
        self._file: LogFile | None = None
        if log is not None:
            try:
                self._file = LogFile(log, largest)
            except OSError:
                self.log = None

    def await_line(self, pattern: str) -> None:
        """Look for a pattern in each line, also in those that have come; `found` is the first that has it."""
        import regex

        self._wanted = regex.compile(b"[^\n]*(?:" + os.fsencode(pattern) + b")[^\n]*")
        self._look("\n".join(self.kept()).encode())

    def _look(self, piece: bytes) -> None:
        """Look for the pattern that is awaited; one that backtracks without end is given up."""
        if self._wanted is None or self.found is not None:
            return
        try:
            match = self._wanted.search(piece, timeout=SECONDS)
        except TimeoutError:
            self._wanted, self.gave_up = None, True
            return
        if match:
            self.found = _shown(match[0])

    def follow(self, stream: IO[bytes], *, is_error: bool = False) -> None:
        """Read `stream` to its end in the background; `is_error` where it is the one for errors."""
        thread = threading.Thread(target=self._read, args=(stream, is_error), daemon=True)
        self._threads.append(thread)
        thread.start()

    def last(self, count: int) -> tuple[str, ...]:
        """Return the last lines that are not empty, cleaned, oldest first."""
        return tuple(line for line in self._ending() if line)[-count:] if count else ()

    def kept(self) -> tuple[str, ...]:
        """Return the lines that are in memory: the first ones, then the last."""
        return (*(_shown(line) for line in self._beginning()), *self._ending())

    def _beginning(self) -> list[bytes]:
        """Return the first lines, as far as they are not among the last: an error may stand above a long stack."""
        if self._size > self._last_size:
            return self._first.split(b"\n")[:_KEPT_LINES]
        with self._lock:
            lines = b"".join(self._last).removesuffix(b"\n").split(b"\n")
        return lines[: max(len(lines) - _KEPT_LINES, 0)][:_KEPT_LINES]

    def since(self, number: int) -> tuple[int, tuple[str, ...]]:
        """Return the count of lines so far, and those after the first `number` that are still kept."""
        count = self.count
        if count == number:
            return count, ()
        return count, tuple(self._ending()[-min(count - number, _KEPT_LINES) :])

    def _ending(self) -> list[str]:
        with self._lock:
            text = b"".join(self._last)
        lines = text.removesuffix(b"\n").rsplit(b"\n", _KEPT_LINES)
        if len(lines) > _KEPT_LINES or self._size > len(text):
            lines = lines[1:]  # its beginning is gone
        cut = [line[i : i + _LONGEST_LINE] for line in lines for i in range(0, max(len(line), 1), _LONGEST_LINE)]
        return [_shown(line) for line in cut[-_KEPT_LINES:]] if text else []

    def text(self) -> str:
        """Return what was printed as a terminal would show it, its lines apart: its beginning and end, where it is much."""
        with self._lock:
            last, size = b"".join(self._last), self._size
        head = b""
        if len(last) < size:
            kept = self._file and not self._file.fault
            head = self._file.beginning(_MOST_TEXT - len(last)) if self._file and kept else self._first
        whole = head[: size - len(last)] + last
        lines = without_sequences(whole.decode("utf-8", "replace")).replace("\r\n", "\n").split("\n")
        return "\n".join(map(as_shown, lines))

    def line_with(self, text: str) -> str | None:
        """Return the first line that holds `text`, from all that is kept, however much; None where none does."""
        wanted = text.encode()
        if self._file is None or self._size <= _MOST_TEXT:  # `text` has all of it
            return None
        return next((_shown(line) for line in self._file.lines() if wanted in line), None)

    def unseen(self, *, plain: bool) -> str | None:
        """Return why what was looked for may be in a part that could not be looked into; None where all was.

        `plain` where `line_with` looked for it too, else what `text` returns is all.
        """
        if self._size <= self._last_size:
            return None
        if self._file is None or self._file.fault:
            why = (self._file and self._file.fault) or "no folder for it"
            return f"not in what could be kept of the output: its log cannot be written ({why})"
        if plain and self._file.left_out:
            return "not in the beginning and the end of the output, which are all that its log keeps"
        if not plain and self._size > _MOST_TEXT:
            return "not in the beginning and the end of the output, which are all that is searched"
        return None

    @property
    def size(self) -> int:
        """How many bytes have come."""
        return self._size

    def begun(self) -> str:
        """Return the line that has begun and not ended yet."""
        with self._lock:
            tail = (b"".join(list(self._last)[-2:]) or self._first)[-_LONGEST_LINE:]
        return _shown(tail.rpartition(b"\n")[2].rpartition(b"\r")[2])

    @property
    def left_out(self) -> int:
        """The bytes that the log does not have, because it has reached its largest size."""
        return self._file.left_out if self._file else 0

    def wait_for_more(self, count: int, seconds: float) -> None:
        """Wait until there is more than the first `count` lines, at most `seconds`."""
        with self._news:
            if self.count == count:
                self._news.wait(seconds)

    def wait(self, seconds: float) -> None:
        """Wait until the streams have ended, at most `seconds`: a process left behind may keep one open."""
        deadline = time.monotonic() + seconds
        for thread in self._threads:
            thread.join(max(0.0, deadline - time.monotonic()))

    def close(self) -> None:
        """Close the log file; whatever still comes is dropped."""
        with self._lock:
            self._closed = True
            if self._file is not None:
                self._file.close()

    def _read(self, stream: IO[bytes], is_error: bool) -> None:
        left, held = b"", 0
        number = stream.fileno()
        here().widen(number, _PIECE)
        with stream:
            while True:
                # A prompt has no line end: what is there for a moment is a line too, but for what may begin a secret.
                if len(left) > held and not select.select([number], [], [], _IDLE_SECONDS)[0]:
                    left = self._take_to(len(left), left, is_error)
                    held = len(left)
                    continue
                piece = _piece(number)
                if not piece:
                    break
                left += piece
                if newline := left.rfind(b"\n") + 1:
                    left = self._take_to(newline, left, is_error)
                if len(left) - held >= _LONGEST_LINE:  # a line without an end
                    left = self._take_to(len(left), left, is_error)
                held = 0
            if left:
                self._take(self._mask.masked(left), is_error)

    def _take_to(self, end: int, text: bytes, is_error: bool) -> bytes:
        """Take `text` up to `end`, masked; return the rest of it, with what may be the beginning of a secret."""
        ready, rest = self._mask.split(text, end)
        if ready:
            self._take(ready, is_error)
        return rest

    def _take(self, piece: bytes, is_error: bool) -> None:
        self._look(piece)
        with self._lock:
            if self._closed:
                return
            if self._file is not None:
                self._file.write(piece)
            if b"\x1b[?" in piece and (switched := _SCREEN.findall(piece)):
                self.is_on_screen = switched[-1] == b"h"
            if self._size < _WARNINGS_IN_BYTES:
                self.warnings += len(_WARNING.findall(piece))
                self._first = (self._first + piece)[:_FIRST_BYTES]
            self._last.append(piece)
            self._last_size += len(piece)
            while len(self._last) > 1 and self._last_size - len(self._last[0]) >= _LAST_BYTES:
                self._last_size -= len(self._last.popleft())
            self._size += len(piece)
            self.count += piece.count(b"\n") + (not piece.endswith(b"\n"))
            self._news.notify_all()
        if self._on_every_line:
            for each in piece.removesuffix(b"\n").split(b"\n"):
                self._on_every_line(_shown(each), is_error)
        now = time.monotonic()
        if self._on_line and now - self._told >= _TELL_EVERY:
            self._told = now
            line = _shown(piece.rstrip(b"\n").rpartition(b"\n")[2])
            if line:
                self._on_line(line)


_SCREEN = expression(rb"\x1b\[\?(?:1049|1047|47)([hl])")
"""The switch to the alternate screen and back (xterm, "Control Sequences", DECSET): what uses it draws all of a terminal."""


def _piece(number: int) -> bytes:
    try:
        return os.read(number, _PIECE)
    except OSError:  # the other end of a terminal is closed (EIO)
        return b""


def _shown(line: bytes) -> str:
    return clean(as_shown(line[:_LONGEST_LINE].decode("utf-8", "replace")))
