"""The face of all systems: which processes a tree has, how they are started and ended, who owns a socket, who holds a file.

`DOKIMON_PROCESSES=portable` picks the module for systems without one of their own on Linux too: the tests drive both.
"""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Sequence
from functools import cache
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, cast

if TYPE_CHECKING:  # what `verify` loads, too: it asks no more of this than `kill_session`
    from dokimon.core.processes.systems.values import System


def here() -> System:
    """Return the module of this system."""
    is_linux = sys.platform.startswith("linux") and os.environ.get("DOKIMON_PROCESSES") != "portable"
    return _module("linux" if is_linux else "portable")


@cache
def _module(name: str) -> System:  # `linux` can be imported on Linux only; each loads psutil where it is first needed
    return cast("System", import_module(f"dokimon.core.processes.systems.{name}"))


def _shared() -> System:
    """Return what the modules of POSIX systems share, without their tables of processes and sockets."""
    return _module("posix")


_BY_CHANCE = 32768
"""From here on Linux gives out ports by chance (ip(7), ip_local_port_range); 49152 elsewhere (RFC 6335, section 6)."""


def is_by_chance(port: int) -> bool:
    """Whether a port is of those that a system gives out to whoever asks for any."""
    return port >= _BY_CHANCE


def listening_ports() -> tuple[int, ...]:
    """Return the TCP ports on which anything on this machine listens, in order, less those that are given out by chance."""
    return tuple(sorted({port for port in _all_ports() if not is_by_chance(port)}))


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
    return _shared().hold(path)


def let_go(handle: int) -> None:
    """Let go of a file that is held."""
    _shared().let_go(handle)


def kill_session(process: subprocess.Popen[bytes]) -> None:
    """Kill what was started in a session of its own, and all that stayed in it."""
    _shared().kill_session(process)


def command_of(pid: int) -> str:
    """Return the command line of a process, or its name, or a question mark where neither may be read."""
    import psutil  # late: it takes 10 ms to load, and what starts a run need not wait for it

    try:
        process = psutil.Process(pid)
        return " ".join(process.cmdline()) or process.name()
    except psutil.Error:
        return "?"
