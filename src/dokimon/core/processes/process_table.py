"""The processes below one, and the sockets that they listen on: one face, with a back end for each kind of system.

A back end has `below`, `SocketTable` and `unix_sockets`. `DOKIMON_PROCESSES=portable` picks the one for systems without a
back end of their own on Linux too: the tests drive both.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable
from functools import cache
from types import ModuleType
from typing import TYPE_CHECKING, Protocol

from dokimon.core.machine.platform import LINUX

if TYPE_CHECKING:
    from dokimon.core.processes.table_portable import Address


class Sockets(Protocol):
    """The listening TCP sockets of some processes; may remember what it saw, so that looking again costs little."""

    def of(self, pids: Iterable[int]) -> dict[Address, int]:
        """Return the addresses on which these processes listen, each with the first process that does."""

    def is_shared(self, port: int) -> bool:
        """Whether somebody else may listen on a port of these processes."""


def reaps_orphans() -> bool:
    """Whether a warden can be made the parent of all that is orphaned below it (Linux: PR_SET_CHILD_SUBREAPER)."""
    return LINUX and os.environ.get("DOKIMON_PROCESSES") != "portable"


def _back_end() -> ModuleType:
    return _linux() if reaps_orphans() else _portable()


@cache
def _linux() -> ModuleType:  # it can be imported on Linux only
    from dokimon.core.processes import table_linux

    return table_linux


@cache
def _portable() -> ModuleType:  # psutil takes 10 ms to load, and what starts a run need not wait for it
    from dokimon.core.processes import table_portable

    return table_portable


def process_table() -> Callable[[int], list[int]]:
    """Return the function that gives the living processes below one, itself not among them, in ascending order."""
    found: Callable[[int], list[int]] = _back_end().below
    return found


def socket_table() -> Sockets:
    """Return a table of listening sockets, to be asked again and again."""
    table: Sockets = _back_end().SocketTable()
    return table


class Listeners(Protocol):
    """Tells whether the listening sockets of this machine are other than when it was last asked."""

    def changed(self) -> bool:
        """Whether they are."""

    def close(self) -> None:
        """Let go of what it holds."""


def new_listeners() -> Listeners | None:
    """Return what tells at little cost that somebody listens anew; None where the system offers nothing of the kind."""
    if not reaps_orphans():
        return None
    try:
        made: Listeners = _linux().NewListeners()
    except OSError:
        return None
    return made


_BY_CHANCE = 32768
"""From here on Linux gives out ports by chance (ip(7), ip_local_port_range); 49152 elsewhere (RFC 6335, section 6)."""


def listening_ports() -> tuple[int, ...]:
    """Return the TCP ports on which anything on this machine listens, in order, less those that are given out by chance."""
    return tuple(sorted({port for port in _all_ports() if port < _BY_CHANCE}))


def is_held(port: int) -> bool:
    """Whether anything on this machine listens on a TCP port."""
    return port in _all_ports()


def _all_ports() -> set[int]:
    try:
        return set(_back_end().ports_of_all())
    except OSError:
        return set()


def unix_sockets(pids: Iterable[int]) -> list[str]:
    """Return the paths of UNIX sockets on which these processes listen."""
    found: list[str] = _back_end().unix_sockets(pids)
    return found


def cpu_seconds(pids: Iterable[int]) -> float | None:
    """Return the processor time that these processes have used, with that of children that have ended; None if unknown."""
    if not reaps_orphans():
        return None
    found: float = _linux().cpu_seconds(pids)
    return found


def udp_ports(pids: Iterable[int]) -> list[int]:
    """Return the UDP ports to which these processes are bound; none where that is not known."""
    if not reaps_orphans():
        return []
    found: list[int] = _linux().udp_ports(pids)
    return found


def command_of(pid: int) -> str:
    """Return the command line of a process, or its name, or a question mark where neither may be read."""
    import psutil  # late: see `_portable`

    try:
        process = psutil.Process(pid)
        return " ".join(process.cmdline()) or process.name()
    except psutil.Error:
        return "?"
