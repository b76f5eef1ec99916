"""One deadline for a whole exchange over sockets.

Limits of clients and sockets are for each step: a server that sends a byte now and then would never reach one.
"""

from __future__ import annotations

import contextlib
import socket
import threading


class Deadline:
    """Cuts the connections that it watches when `seconds` are over; `over` says that it has. For a `with` statement."""

    def __init__(self, seconds: float) -> None:
        self._sockets: list[socket.socket] = []
        self._timer = threading.Timer(seconds, self._cut)
        self._timer.daemon = True
        self.over = False

    def __enter__(self) -> Deadline:
        self._timer.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._timer.cancel()

    def watch(self, link: socket.socket | None) -> None:
        """Cut this connection too; at once, where it is too late."""
        if link is not None:
            self._sockets.append(link)
            if self.over:
                self._cut()

    def _cut(self) -> None:
        self.over = True
        for each in tuple(self._sockets):
            with contextlib.suppress(OSError):
                each.shutdown(socket.SHUT_RDWR)
