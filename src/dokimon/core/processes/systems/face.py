"""The face of all systems: which processes a tree has, how they are started and ended, who owns a socket, who holds a file.

`DOKIMON_PROCESSES=portable` picks the module for systems without one of their own on Linux too: the tests drive both.
"""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Iterable, Sequence
from functools import cache
from importlib import import_module
from pathlib import Path
from typing import IO, Protocol, cast

from dokimon.core.processes.systems.values import Handle, Listeners, Sockets, Start, Warded


class System(Protocol):
    """What the module of a system has. Where a system cannot know something, it says so by None or by nothing."""

    REAPS_ORPHANS: bool
    """Whether a warden can be made the parent of all that is orphaned below it, so that it hears when its tree is empty."""

    STOP_SIGNALS: tuple[str, ...]
    """The names of what ends a process, from the politest (what Ctrl+C in a terminal sends) to what nothing survives."""

    def launch(self, start: Start, owns: str) -> Warded:
        """Start a command below a warden; raises `OSError` or `ValueError`."""

    def below(self, pid: int) -> list[int]:
        """Return the living processes below one, itself not among them, in ascending order."""

    def interrupt(self, pid: int) -> bool:
        """Do what Ctrl+C does to a command and its group; False where it is gone."""

    def send(self, pid: int, signal: str) -> bool:
        """Send one of `STOP_SIGNALS` to a process; return whether it may be."""

    def handle(self, pid: int, *, exact: bool) -> Handle:
        """Return a handle of a process; one that is `exact` costs a file of the kernel."""

    def is_alive(self, pid: int) -> bool:
        """Whether a process of this number is there."""

    def kill_session(self, process: subprocess.Popen[bytes]) -> None:
        """Kill what was started in a session of its own, and all that stayed in it."""

    def sockets(self) -> Sockets:
        """Return a table of listening sockets, to be asked again and again."""

    def new_listeners(self) -> Listeners | None:
        """Return what tells cheaply that somebody listens anew, or None."""

    def ports_of_all(self) -> list[int]:
        """Return the ports on which anything listens; raises `OSError` where that is refused."""

    def unix_sockets(self, pids: Iterable[int]) -> list[str]:
        """Return the paths of UNIX sockets on which these processes listen."""

    def udp_ports(self, pids: Iterable[int]) -> list[int]:
        """Return the UDP ports to which these processes are bound."""

    def cpu_seconds(self, pids: Iterable[int]) -> float | None:
        """Return the processor time of these processes, with that of children that have ended; None if unknown."""

    def is_blind(self) -> bool:
        """Whether the list of processes, which was there, is there no longer."""

    def widen(self, pipe: int, size: int) -> None:
        """Make a pipe hold more, where the system can."""

    def share_content(self, old: IO[bytes], new: IO[bytes]) -> None:
        """Let a new file have the blocks of an old one until either is written to; raises `OSError` where it cannot."""

    def hold(self, path: Path) -> int | None:
        """Hold a file for this process alone; None where another holds it."""

    def let_go(self, handle: int) -> None:
        """Let go of a file that is held."""


def here() -> System:
    """Return the module of this system."""
    is_linux = sys.platform.startswith("linux") and os.environ.get("DOKIMON_PROCESSES") != "portable"
    return _module("linux" if is_linux else "portable")


@cache
def _module(name: str) -> System:  # `linux` can be imported on Linux only; each loads psutil where it is first needed
    return cast(System, import_module(f"dokimon.core.processes.systems.{name}"))


_BY_CHANCE = 32768
"""From here on Linux gives out ports by chance (ip(7), ip_local_port_range); 49152 elsewhere (RFC 6335, section 6)."""


def listening_ports() -> tuple[int, ...]:
    """Return the TCP ports on which anything on this machine listens, in order, less those that are given out by chance."""
    return tuple(sorted({port for port in _all_ports() if port < _BY_CHANCE}))


def is_held(port: int) -> bool:
    """Whether anything on this machine listens on a TCP port."""
    return port in _all_ports()


def _all_ports() -> Sequence[int]:
    try:
        return here().ports_of_all()
    except OSError:
        return ()


def hold(path: Path) -> int | None:
    """Hold a file, which is made for this user alone; return the handle to let go of, or None where another holds it.

    The system lets go of it when its holder ends, however that is. Raises `OSError` where the file cannot be made.
    Children do not inherit the hold.
    """
    return here().hold(path)


def let_go(handle: int) -> None:
    """Let go of a file that is held."""
    here().let_go(handle)


def command_of(pid: int) -> str:
    """Return the command line of a process, or its name, or a question mark where neither may be read."""
    import psutil  # late: it takes 10 ms to load, and what starts a run need not wait for it

    try:
        process = psutil.Process(pid)
        return " ".join(process.cmdline()) or process.name()
    except psutil.Error:
        return "?"
