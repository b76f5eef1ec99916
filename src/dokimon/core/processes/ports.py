"""Ports of runs that are carried out side by side: none is given to two, and who picks its own waits for its turn."""

from __future__ import annotations

import threading
from collections.abc import Callable, Collection, Iterator
from contextlib import contextmanager

from dokimon.core.processes.sockets import free_port

OwnChoice = int | None
"""The port that a run takes without being told: None where nobody knows which."""

_LOOK_EVERY = 0.2


class Ports:
    """What is given out to the runs of several smoke checks in this process."""

    def __init__(self) -> None:
        self._changed = threading.Condition()
        self._given: set[int] = set()
        self._turns: list[frozenset[OwnChoice]] = []

    def claim(self, port: int) -> bool:
        """Give out this very port; False where another run has it."""
        with self._changed:
            was_free = port not in self._given
            self._given.add(port)
            return was_free

    def free(self, after: int | None = None) -> int:
        """Return a port as `free_port` does, and none that another run still has."""
        with self._changed:
            port = free_port(after, self._given)
            self._given.add(port)
            return port

    def give_back(self, port: int | None) -> None:
        """Take back a port of a run that is over."""
        with self._changed:
            self._given.discard(port or 0)

    @contextmanager
    def turn(self, choices: Collection[OwnChoice], halt: threading.Event, waits: Callable[[], None]) -> Iterator[None]:
        """Hold the ports that runs choose themselves for the block, once nobody else who may take them is at work.

        All of a smoke check are held at once, so that no two can wait for each other. Setting `halt` ends the waiting,
        and `waits` is called where it begins.
        """
        mine = frozenset(choices)
        with self._changed:
            if any(_may_meet(mine, each) for each in self._turns):
                waits()
            while any(_may_meet(mine, each) for each in self._turns) and not halt.is_set():
                self._changed.wait(_LOOK_EVERY)
            self._turns.append(mine)
        try:
            yield
        finally:
            with self._changed:
                self._turns.remove(mine)
                self._changed.notify_all()


def _may_meet(some: frozenset[OwnChoice], others: frozenset[OwnChoice]) -> bool:
    return bool(some & others) or (None in some and bool(others)) or (None in others and bool(some))
