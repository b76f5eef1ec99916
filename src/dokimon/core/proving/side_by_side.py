"""Pieces of work side by side, as many at once as are wished and as memory allows."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from typing import TypeVar

import psutil

Work = TypeVar("Work")
Made = TypeVar("Made")

ROOM = 1024**3
"""Bytes of memory that must be free before another piece of work begins beside those that are under way."""

_LOOK_EVERY = 0.5


def side_by_side(
    works: Sequence[Work], make: Callable[[Work], Made], at_once: int, halt: threading.Event
) -> list[Made]:
    """Return what `make` made of each, in the order of `works`; once `halt` is set, of those that had begun.

    The next one begins when fewer than `at_once` are under way, and either none is or there is room in memory.
    """
    if at_once <= 1 or len(works) <= 1:
        made = []
        for work in works:
            if halt.is_set():
                break
            made.append(make(work))
        return made
    begun: list[Future[Made]] = []
    with ThreadPoolExecutor(max_workers=at_once) as pool:
        for work in works:
            while running := [each for each in begun if not each.done()]:
                if halt.is_set() or (len(running) < at_once and psutil.virtual_memory().available >= ROOM):
                    break
                wait(running, timeout=_LOOK_EVERY, return_when=FIRST_COMPLETED)
            if halt.is_set():
                break
            begun.append(pool.submit(make, work))
    return [each.result() for each in begun]
