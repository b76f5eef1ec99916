"""`dokimon smoke` of several projects: one after the other or side by side. A fault in one hides no other."""

from __future__ import annotations

import threading
from collections.abc import Mapping, Sequence
from pathlib import Path

import msgspec

from dokimon.core.jobs.clone import smoke_clone
from dokimon.core.jobs.options import CloneOptions, SmokeOptions
from dokimon.core.jobs.several import report_or_reason
from dokimon.core.jobs.smoke import smoke
from dokimon.core.processes.ports import Ports
from dokimon.core.processes.watching import Watcher
from dokimon.core.proving.side_by_side import side_by_side
from dokimon.core.report.model import Report

_PATIENCE = 3600.0
"""Seconds for which a project waits where another in the same checkout has its turn."""


def smoke_several(
    folders: Sequence[Path],
    environment: Mapping[str, str],
    options: SmokeOptions,
    clone_options: CloneOptions | None,
    at_once: int,
    halt: threading.Event,
    watcher: Watcher,
) -> list[Report]:
    """Smoke-check several projects, or clones of them, so many side by side; one that cannot be hides no other."""
    at_once = min(at_once, len(folders))
    if at_once > 1:
        patience = max(options.wait_seconds, _PATIENCE)
        options = msgspec.structs.replace(options, ports=Ports(), wait_seconds=patience)
    total = len(folders)

    def made(work: tuple[int, Path]) -> Report:
        number, folder = work
        mine = watcher.beside(f"{number} of {total}: {folder.name}")
        try:
            return report_or_reason(folder, lambda each: _smoked(each, mine), "smoke")
        finally:
            mine.over()

    def _smoked(folder: Path, mine: Watcher) -> Report:
        if clone_options is None:
            return smoke(folder, environment, options, halt, mine)
        return smoke_clone(folder, environment, options, clone_options, halt, mine)

    return side_by_side(list(enumerate(folders, 1)), made, at_once, halt)
