"""One smoke check at a time in a checkout: two would install over each other and take each other's ports."""

from __future__ import annotations

import contextlib
import os
import threading
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path

import msgspec

from dokimon.core.digests import blake2b
from dokimon.core.faults import Fault
from dokimon.core.files import bytes_of_file, make_for_oneself, write_for_oneself
from dokimon.core.machine.platform import own_folder
from dokimon.core.processes.systems.face import hold, let_go
from dokimon.core.processes.watching import Watcher

_LOOK_EVERY = 0.2


class TurnFault(Fault):
    """Another smoke check is at work in this checkout; the reason says which."""


class _Holder(msgspec.Struct, frozen=True):
    pid: int
    since: float


HOW_TO_WAIT = "--wait 5m"
"""How somebody at a terminal says that a call is to wait."""


@contextmanager
def turn(
    root: Path,
    environment: Mapping[str, str],
    patience: float,
    halt: threading.Event,
    watcher: Watcher,
    how_to_wait: str = HOW_TO_WAIT,
) -> Iterator[None]:
    """Hold the checkout `root` for the block. Raises `TurnFault` where another process still holds it after `patience` s.

    `watcher` hears of it where it has to be waited for; the fault says `how_to_wait`, where nobody asked for that. The
    system lets go of the lock when its holder ends, however that is. Without a folder of Dokimon's own, no lock can be had,
    and none is asked for.
    """
    own = own_folder("cache", environment)
    if own is None:
        yield
        return
    mark = blake2b(os.fsencode(os.path.realpath(root)), digest_size=8).hexdigest()
    lock, note = own / "turns" / f"{mark}.lock", own / "turns" / f"{mark}.json"
    try:
        make_for_oneself(lock.parent)
        held = _take(lock, note, patience, halt, watcher, how_to_wait)
    except OSError:  # a folder that may not be written to: better unlocked than not at all
        yield
        return
    with contextlib.suppress(OSError):
        write_for_oneself(note, msgspec.json.encode(_Holder(os.getpid(), time.time())))
    try:
        yield
    finally:
        let_go(held)


def _take(lock: Path, note: Path, patience: float, halt: threading.Event, watcher: Watcher, how_to_wait: str) -> int:
    """Return the handle of the lock once it is held; raises `TurnFault`, and `OSError` where there can be none."""
    deadline = time.monotonic() + patience
    told = False
    while (held := hold(lock)) is None:
        left = deadline - time.monotonic()
        if left <= 0 or halt.is_set():
            more = f"waited {patience:g} s for it" if patience else f"wait for its end with {how_to_wait}, or end it"
            raise TurnFault(f"{_who(note)}; {more}")
        if not told:
            watcher.stage("wait", f"{_who(note)}; waiting for its end, at most {patience:g} s")
            told = True
        halt.wait(min(left, _LOOK_EVERY))
    return held


def _who(note: Path) -> str:
    """Say who holds the checkout."""
    try:
        holder = msgspec.json.decode(bytes_of_file(note), type=_Holder)
        who = f"process {holder.pid}, since {time.strftime('%H:%M:%S', time.localtime(holder.since))}"
    except (OSError, ValueError, OverflowError):
        who = "a process of yours"
    return f"another smoke check is at work in this checkout ({who})"
