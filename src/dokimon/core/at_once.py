"""The same work on several things at once, in threads.

`concurrent.futures` would do, but loads `logging`: 6 ms of a call that often has one thing to do.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from typing import TypeVar

Thing = TypeVar("Thing")
Result = TypeVar("Result")


def at_once(work: Callable[[Thing], Result], things: Sequence[Thing], most: int) -> list[Result]:
    """Return what `work` makes of each thing, in their order, with at most so many at a time.

    The caller's own thread is one of those that work. Raises what the first of them raised, once all have ended; an
    interruption is raised at once.
    """
    numbers = iter(range(len(things)))
    results: dict[int, Result] = {}
    faults: dict[int, Exception] = {}
    turn = threading.Lock()

    def take() -> None:
        while True:
            with turn:
                number = next(numbers, None)
            if number is None:
                return
            try:
                results[number] = work(things[number])
            except Exception as fault:
                faults[number] = fault

    helpers = [threading.Thread(target=take, daemon=True) for _ in range(min(most, len(things)) - 1)]
    for helper in helpers:
        helper.start()
    take()
    for helper in helpers:
        helper.join()
    if faults:
        raise faults[min(faults)]
    return [results[number] for number in range(len(things))]
