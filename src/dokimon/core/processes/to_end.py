"""Running something to its end, within a time: a helper of a check, or a command of the project."""

from __future__ import annotations

import threading
import time
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from dokimon.core.processes.exit_status import how_ended
from dokimon.core.processes.output import Output
from dokimon.core.processes.stopping import stop
from dokimon.core.processes.tree import Tree


class End(NamedTuple):
    """How it came out: whether it ended by itself, with which status, after how many seconds, or why it did not."""

    ended: bool
    status: int | None
    seconds: float
    reason: str


def run_to_end(
    command: Sequence[str], folder: Path, variables: Mapping[str, str], output: Output, within: float, halt: threading.Event
) -> End:  # fmt: skip
    """Run `command` in `folder` below a warden, its output into `output`; whatever is left of it is stopped.

    Raises `StartFault`.
    """
    began = time.monotonic()
    tree = Tree.start(command, folder, variables, output)
    try:
        while not tree.wait(0.1) and not halt.is_set() and time.monotonic() - began <= within:
            pass
        spent, ended = round(time.monotonic() - began, 3), tree.ended
        if ended:
            output.wait(1.0)
        stop(tree)
    finally:
        tree.close()
    if ended:
        return End(True, tree.exit_status, spent, how_ended(tree.exit_status))
    return End(False, None, spent, "interrupted" if halt.is_set() else f"did not end within {within:g} s")
