"""Where the full output of each run is kept: in Dokimon's own folder, the last ones of each checkout."""

from __future__ import annotations

import contextlib
import os
import re
import shutil
import time
from collections.abc import Mapping
from itertools import accumulate
from pathlib import Path

from dokimon.core.digests import blake2b
from dokimon.core.machine.platform import own_folder
from dokimon.core.processes.log_file import LARGEST_BYTES

_KEPT = 30
_KEPT_CHECKOUTS = 30
_MOST_BYTES = 1_000_000_000
"""Of the logs of one checkout before this invocation: older ones go."""


class Logs:
    """The log files of one invocation, each of at most `largest` bytes. Without a folder of one's own there are none."""

    def __init__(self, root: Path, environment: Mapping[str, str], largest: int = LARGEST_BYTES) -> None:
        self.largest = largest
        own = own_folder("cache", environment)
        mark = blake2b(os.fsencode(root), digest_size=4).hexdigest()
        name = re.sub(r"[^\w.-]+", "-", root.name)[:40] or "checkout"
        self._folder = own / "logs" / f"{name}-{mark}" if own else None
        # Two invocations in one checkout have files of their own.
        self._stamp = f"{time.strftime('%Y%m%d-%H%M%S')}-{os.getpid()}"
        self._prune()

    @property
    def folder(self) -> Path | None:
        """The folder of this checkout's logs; None where none are kept."""
        return self._folder

    def path(self, name: str) -> Path | None:
        """Return the file for the output of a run or step of this name."""
        if self._folder is None:
            return None
        plain = re.sub(r"[^\w.-]+", "-", name)[:60]
        return self._folder / f"{self._stamp}-{plain}.log"

    def _prune(self) -> None:
        if self._folder is None:
            return
        with contextlib.suppress(OSError):
            kept = sorted(
                path for path in self._folder.iterdir() if path.suffix in (".log", ".png", ".end-a", ".end-b")
            )
            sizes = accumulate(path.stat().st_size for path in reversed(kept))
            few_enough = sum(size <= _MOST_BYTES for size in sizes)
            for old in kept[: -min(_KEPT, max(few_enough, 1))]:
                old.unlink(missing_ok=True)
            checkouts = sorted(self._folder.parent.iterdir(), key=lambda path: path.stat().st_mtime)
            for folder in checkouts[:-_KEPT_CHECKOUTS]:
                shutil.rmtree(folder, ignore_errors=True)
