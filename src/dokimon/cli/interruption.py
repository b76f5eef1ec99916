"""Ctrl+C, a request to terminate, a closed terminal: each asks for an orderly end, so that nothing is left behind."""

from __future__ import annotations

import signal
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from types import FrameType

import typer

_ASKS_TO_STOP = [getattr(signal, name) for name in ("SIGINT", "SIGTERM", "SIGHUP", "SIGBREAK") if hasattr(signal, name)]


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


@contextmanager
def abandoning() -> Iterator[None]:
    """Let Ctrl+C end a survey at once, with status 130: what is being asked is killed, nothing is waited for."""
    from dokimon.core.machine.asking import abandon

    def asked(number: int, frame: FrameType | None) -> None:
        abandon()
        raise KeyboardInterrupt

    before = {number: signal.signal(number, asked) for number in _ASKS_TO_STOP}
    try:
        yield
    except KeyboardInterrupt:
        raise typer.Exit(130) from None
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
