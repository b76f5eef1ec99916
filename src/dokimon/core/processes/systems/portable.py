"""Any system: the processes below one, and the sockets that they listen on, as psutil lists them.

macOS uses this module. It runs on Linux too, where the same tests drive it (`DOKIMON_PROCESSES=portable`).
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import IO

import psutil

from dokimon.core.processes.systems import posix
from dokimon.core.processes.systems.posix import (
    STOP_SIGNALS,
    hold,
    interrupt,
    is_alive,
    kill_session,
    launch,
    let_go,
    send,
)
from dokimon.core.processes.systems.values import Address, Handle, Listeners

__all__ = [
    "MARK", "REAPS_ORPHANS", "STOP_SIGNALS", "below", "cpu_seconds", "handle", "hold", "interrupt",
    "is_alive", "is_blind", "kill_session", "launch", "let_go", "most_children", "new_listeners",
    "ports_of_all", "send", "share_content", "sockets", "udp_ports", "unaccepted", "unix_sockets", "widen",
]  # fmt: skip

REAPS_ORPHANS = False

MARK = "DOKIMON_TREE"
"""The variable in which each process of a tree carries the ids of the wardens above it, separated by spaces."""


def below(pid: int) -> list[int]:
    """Return the living processes below `pid`, itself not among them, in ascending order.

    A process whose parent has ended is below nothing any more; those that carry the mark of `pid` still count.
    """
    try:
        found = {each.pid for each in psutil.Process(pid).children(recursive=True) if _lives(each)}
    except psutil.Error:
        found = set()
    try:
        every = list(psutil.process_iter())
    except (psutil.Error, OSError, IndexError):  # where there is no list of processes (Linux: /proc was hidden)
        every = []
    since = _began(pid)
    return sorted(found | {each.pid for each in every if _is_marked(each, str(pid), since) and _lives(each)})


def most_children(pids: Iterable[int]) -> int:
    """Return how many living children the one of these processes has that has the most."""
    return max((_living_children(pid) for pid in pids), default=0)


def _living_children(pid: int) -> int:
    try:
        return sum(_lives(each) for each in psutil.Process(pid).children())
    except psutil.Error:
        return 0


_BEGAN: dict[int, float] = {}
"""When wardens started: what is older than one is not of its tree, and need not be looked into each time."""

_CLOCKS_DIFFER = 2.0
"""Seconds by which two times of a start may be wrong: some systems tell them in whole seconds."""


def _began(warden: int) -> float:
    if warden not in _BEGAN:
        try:
            _BEGAN[warden] = psutil.Process(warden).create_time()
        except (psutil.Error, OSError):
            return 0.0
    return _BEGAN[warden] - _CLOCKS_DIFFER


def _lives(process: psutil.Process) -> bool:
    try:
        return process.status() != psutil.STATUS_ZOMBIE
    except psutil.Error:
        return False


def _is_marked(process: psutil.Process, warden: str, since: float) -> bool:
    try:
        return process.create_time() >= since and warden in process.environ().get(MARK, "").split()
    except (psutil.Error, OSError):  # another user's, or one that just ended
        return False


class SocketTable:
    """The listening TCP sockets of some processes."""

    def of(self, pids: Iterable[int]) -> dict[Address, int]:
        """Return the addresses on which these processes listen, each with the first process that does."""
        found: dict[Address, int] = {}
        for pid in sorted(pids):
            try:
                connections = psutil.Process(pid).net_connections(kind="tcp")
            except psutil.Error:
                continue
            for connection in connections:
                if connection.status == psutil.CONN_LISTEN and connection.laddr:
                    found.setdefault((connection.laddr.ip, connection.laddr.port), pid)
        return found

    def is_shared(self, port: int) -> bool:
        """Whether somebody else may listen on a port of these processes: without a list of all sockets, it may be."""
        return True


sockets = SocketTable


def new_listeners() -> Listeners | None:
    """Nothing tells it cheaply."""
    return None


def ports_of_all() -> list[int]:
    """Return the ports on which anything listens; raises `OSError` where that is refused (macOS: to all but root)."""
    try:
        connections = psutil.net_connections(kind="tcp")
    except psutil.Error as wrong:
        raise OSError(str(wrong)) from None
    return [each.laddr.port for each in connections if each.status == psutil.CONN_LISTEN and each.laddr]


def unaccepted(port: int) -> int:
    """Return 0: how many connections wait to be taken is not told here."""
    return 0


def unix_sockets(pids: Iterable[int]) -> list[str]:
    """Return the paths of UNIX sockets that these processes have open: psutil does not say which of them listen."""
    found = set()
    for pid in pids:
        try:
            connections = psutil.Process(pid).net_connections(kind="unix")
        except psutil.Error:
            continue
        found |= {str(each.laddr) for each in connections if each.laddr}
    return sorted(found)


def udp_ports(pids: Iterable[int]) -> list[int]:
    """Not known: psutil does not tell a bound port from one that a question was sent from."""
    return []


def cpu_seconds(pids: Iterable[int]) -> float | None:
    """Not known: the time of children that have ended is told on some systems only."""
    return None


def is_blind() -> bool:
    """Never: the list of processes is asked of the kernel."""
    return False


def handle(pid: int, *, exact: bool) -> Handle:
    """Return a handle of a process."""
    return posix.Started(pid)


def widen(pipe: int, size: int) -> None:
    """Pipes are as they are."""


def share_content(old: IO[bytes], new: IO[bytes]) -> None:
    """No file shares its blocks."""
    raise OSError("no file shares its blocks with another on this system")
