"""Stopping a tree: politely first, then harder, each step with its time; nothing of it lives on."""

from __future__ import annotations

import time

import msgspec

from dokimon.core.processes.systems.face import here
from dokimon.core.processes.tree import Tree
from dokimon.core.report.model import StopStep
from dokimon.core.text import clean

_PATIENCE = (8.0, 5.0, 5.0)
"""The seconds that the tree has after each of the system's signals, from the politest to the surest."""

_KEYS_SECONDS = 5.0
_WAKE_EVERY = 1.0

_ORPHANS_AFTER = 1.5
"""Once the command itself has gone, what it left behind has this long to follow before the next step."""


class Stopped(msgspec.Struct, frozen=True, kw_only=True):
    """How a tree was stopped: the last signal it took (None when it had ended by itself), the seconds in all.

    `left_behind` names processes that even a kill did not end.
    """

    by: str | None
    seconds: float
    steps: tuple[StopStep, ...]
    left_behind: tuple[str, ...]


def stop(tree: Tree, keys: str | None = None, *, at_terminal: bool = True) -> Stopped:
    """Stop every process of the tree. A tree that has ended by itself takes no step; `keys` are the run's own way to end.

    What people do not end at a terminal (a program with a window) is not sent what Ctrl+C sends.
    """
    started = time.monotonic()
    steps: list[StopStep] = []
    tree.wake_warden()
    if keys and (count := len(tree.processes())) and tree.press(keys):
        _wait(tree, started, _KEYS_SECONDS)
        steps.append(StopStep(f"keys {clean(repr(keys), 20)}", count, round(time.monotonic() - started, 3)))
    signals = list(zip(here().STOP_SIGNALS, _PATIENCE, strict=True))
    for signal, patience in signals if at_terminal else signals[1:]:
        count = len(tree.processes())
        if not count:
            break
        begun = time.monotonic()
        if tree.send(signal):
            _wait(tree, begun, patience)
        steps.append(StopStep(signal, count, round(time.monotonic() - begun, 3)))
    left = tree.close()
    return Stopped(
        by=steps[-1].signal if steps else None,
        seconds=round(time.monotonic() - started, 3),
        steps=tuple(steps),
        left_behind=left,
    )


def _wait(tree: Tree, begun: float, patience: float) -> None:
    """Wait until the tree is empty, its time is over, or what the command left behind had its own time."""
    deadline = begun + patience
    while (left := deadline - time.monotonic()) > 0:
        if tree.ended:
            tree.wait_empty(min(left, _ORPHANS_AFTER))
            return
        tree.wait(min(left, _WAKE_EVERY))
        tree.wake_warden()  # a run may stop it at any moment
