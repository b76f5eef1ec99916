"""What a system gives: values and objects whose types are the same on each."""

from __future__ import annotations

import subprocess
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import IO, NamedTuple, Protocol

Address = tuple[str, int]
"""An IP address and a port."""


class Start(NamedTuple):
    """A command to start, in a folder, with variables; on a `terminal` of its own, or with a `keyboard` to press keys on."""

    command: Sequence[str]
    folder: str
    environment: dict[str, str]
    terminal: bool
    keyboard: bool


class Warded(Protocol):
    """A command below its warden: what holds the tree together, and ends it when Dokimon ends."""

    pid: int
    """The id of the warden: the tree is below it."""

    @property
    def streams(self) -> Sequence[IO[bytes]]:
        """What the command prints: one stream for both, or standard output and then standard error."""

    @property
    def is_released(self) -> bool:
        """Whether the warden was told to end what is left."""

    @property
    def went_wrong(self) -> bool:
        """Whether the warden, once it is over, was killed or gave up."""

    def told(self) -> Iterator[tuple[str, str]]:
        """Yield what the warden tells, a word and what belongs to it.

        `started PID` or `failed REASON`, then `ended STATUS`, and `empty` once nothing is left.
        """

    def press(self, keys: bytes) -> bool:
        """Type keys; return whether there was anyone to read them."""

    def wake(self) -> None:
        """Let a warden go on that somebody stopped."""

    def release(self) -> None:
        """Let the warden end what is left, and itself."""

    def wait(self, seconds: float) -> None:
        """Wait for the end of the warden; kill it where it does not end in time."""

    def close(self) -> None:
        """Let go of all that was held of it."""


class Handle(Protocol):
    """One process, known for sure: its number alone may be another's by now."""

    pid: int

    def lives(self) -> bool:
        """Whether it does."""

    def kill(self) -> bool:
        """Kill it; return whether that was allowed, or it was gone."""

    def forget(self) -> None:
        """Let go of what was held of it."""


class Sockets(Protocol):
    """The listening TCP sockets of some processes; may remember what it saw, so that looking again costs little."""

    def of(self, pids: Iterable[int]) -> dict[Address, int]:
        """Return the addresses on which these processes listen, each with the first process that does."""

    def is_shared(self, port: int) -> bool:
        """Whether somebody else may listen on a port of these processes."""


class Listeners(Protocol):
    """Tells whether the listening sockets of this machine are other than when it was last asked."""

    def changed(self) -> bool:
        """Whether they are."""

    def close(self) -> None:
        """Let go of what it holds."""


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

    def most_children(self, pids: Iterable[int]) -> int:
        """Return how many living children the one of these processes has that has the most."""

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

    def unaccepted(self, port: int) -> int:
        """Return how many connections wait at a TCP port for its server to take them; 0 where the system does not tell."""

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
