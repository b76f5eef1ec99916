"""The file with what a run printed: the whole of it or, of very much, its beginning and its end."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator
from pathlib import Path

from dokimon.core.files import make_for_oneself

LARGEST_BYTES = 256 * 1000 * 1000
"""Of a log, unless `[project] largest_log` says otherwise."""

_NEW_FILE = os.O_RDWR | os.O_CREAT | os.O_TRUNC | getattr(os, "O_CLOEXEC", 0)
_PIECE = 1 << 20


class LogFile:
    """A log of at most `largest` bytes, for its user alone (mode 0600).

    Half of it is the beginning. What follows goes to a second file by turns with a third, each a quarter of the whole, so
    that the newest is always there; at the end they are joined to the first. `left_out` counts the bytes that are in
    none; `fault` says why what came later could not be written (a full disk).
    """

    def __init__(self, path: Path, largest: int = LARGEST_BYTES) -> None:
        self.path = path
        self.left_out = 0
        self.fault: str | None = None
        self._quarter = max(largest // 4, 1)
        self._ends = (path.with_suffix(".end-a"), path.with_suffix(".end-b"))
        self._turn = 0
        make_for_oneself(path.parent)
        self._file: int | None = os.open(path, _NEW_FILE, 0o600)
        self._room = 2 * self._quarter
        self._sizes = [0, 0]
        self._head = True

    def write(self, piece: bytes) -> None:
        """Add to the log. What cannot be written is passed over, and `fault` says why."""
        if self._file is None or self.fault:
            return
        view = memoryview(piece)
        try:
            while view:
                if not self._room:
                    self._turn_over()
                written = os.write(self._file, view[: self._room])
                self._room -= written
                if not self._head:
                    self._sizes[self._turn] += written
                view = view[written:]
        except OSError as wrong:
            self.fault = wrong.strerror or str(wrong)

    def _turn_over(self) -> None:
        """Go on in the other of the two files with the end; what was in it is left out."""
        assert self._file is not None
        os.close(self._file)
        self._file = None
        self._turn, self._head = (0 if self._head else 1 - self._turn), False
        self.left_out += self._sizes[self._turn]
        self._sizes[self._turn] = 0
        self._file = os.open(self._ends[self._turn], _NEW_FILE, 0o600)
        self._room = self._quarter

    def beginning(self, size: int) -> bytes:
        """Return the first `size` bytes."""
        with contextlib.suppress(OSError), self.path.open("rb") as file:
            return file.read(size)
        return b""

    def lines(self) -> Iterator[bytes]:
        """Yield all lines that are kept."""
        for path in (self.path, *self._in_order()):
            with contextlib.suppress(OSError), path.open("rb") as file:
                while lines := file.readlines(_PIECE):
                    yield from lines

    def _in_order(self) -> list[Path]:
        """Return the files with the end, the older first."""
        if self._head:
            return []
        older, newer = self._ends[1 - self._turn], self._ends[self._turn]
        return [older, newer] if self._sizes[1 - self._turn] else [newer]

    def close(self) -> None:
        """Close it; where there is too much for one log, put the end behind the beginning, and say what is missing."""
        if self._file is None:
            return
        os.close(self._file)
        self._file = None
        if self._head:
            return
        try:
            with self.path.open("ab") as log:
                if self.left_out:
                    log.write(
                        b"\n[... %d bytes are left out here: this log has reached its largest size]\n" % self.left_out
                    )
                for path in self._in_order():
                    with path.open("rb") as end:
                        while piece := end.read(_PIECE):
                            log.write(piece)
        except OSError as wrong:
            self.fault = wrong.strerror or str(wrong)
        for path in self._ends:
            with contextlib.suppress(OSError):
                path.unlink(missing_ok=True)
