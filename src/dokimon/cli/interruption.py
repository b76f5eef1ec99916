"""Ctrl+C, a request to terminate, a closed terminal: each asks for an orderly end, so that nothing is left behind."""

from __future__ import annotations

import signal
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from types import FrameType

_ASKS_TO_STOP = [
    getattr(signal, name) for name in ("SIGINT", "SIGTERM", "SIGHUP", "SIGBREAK") if hasattr(signal, name)
]


@contextmanager
def interruptible() -> Iterator[threading.Event]:
    """Yield an event that is set once somebody asks to stop; signals do nothing else meanwhile."""
    halt = threading.Event()

    def asked(number: int, frame: FrameType | None) -> None:
        halt.set()

    before = {number: signal.signal(number, asked) for number in _ASKS_TO_STOP}
    try:
        yield halt
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
