"""What a system gives: values and objects whose types are the same on each."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
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
