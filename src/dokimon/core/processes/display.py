"""The display that a desktop program draws on: the one there is, or a virtual one that is Dokimon's own."""

from __future__ import annotations

import shutil
import threading
import time
from collections.abc import Mapping
from pathlib import Path

from dokimon.core.processes.output import Output
from dokimon.core.processes.stopping import stop
from dokimon.core.processes.tree import StartFault, Tree

_SECONDS = 10.0
_SIZE = "1280x800x24"


def has_virtual_display(environment: Mapping[str, str]) -> bool:
    """Whether what `VirtualDisplay` starts is here."""
    return shutil.which("Xvfb", path=environment.get("PATH")) is not None


class VirtualDisplay:
    """An Xvfb of Dokimon's own, below a warden as all that it starts. `name` is its display, `:99`."""

    def __init__(self, tree: Tree, name: str) -> None:
        self._tree = tree
        self.name = name

    @classmethod
    def start(cls, environment: Mapping[str, str], halt: threading.Event) -> VirtualDisplay | None:
        """Start one on a number that is free; None where there is no Xvfb, or it does not come up."""
        program = shutil.which("Xvfb", path=environment.get("PATH"))
        if program is None:
            return None
        output = Output()
        # It writes the number that it found free (Xserver(1), -displayfd).
        command = [program, "-displayfd", "1", "-screen", "0", _SIZE, "-nolisten", "tcp"]
        try:
            tree = Tree.start(command, Path("/"), environment, output)
        except StartFault:
            return None
        output.await_line(r"^\d+$")
        deadline = time.monotonic() + _SECONDS
        while output.found is None and not tree.ended and time.monotonic() < deadline and not halt.is_set():
            output.wait_for_more(output.count, 0.1)
        if output.found is None:
            tree.close()
            return None
        return cls(tree, f":{output.found.strip()}")

    def close(self) -> None:
        """Stop it."""
        stop(self._tree)
