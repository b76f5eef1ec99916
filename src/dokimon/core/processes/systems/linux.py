"""Linux: the processes below one, and the sockets that they listen on, read from `/proc` and asked of the kernel.

A smoke check looks many times a second. What Linux tells in a few small files costs a hundredth of what walking all
processes of the machine does.
"""

from __future__ import annotations

import contextlib
import os
import select
import signal
import socket as _socket
import struct
import sys
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import IO

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
from dokimon.core.processes.systems.values import Address, Handle

__all__ = [
    "REAPS_ORPHANS", "STOP_SIGNALS", "below", "cpu_seconds", "handle", "hold", "interrupt", "is_alive",
    "is_blind", "kill_session", "launch", "let_go", "most_children", "new_listeners", "ports_of_all", "send",
    "share_content", "sockets", "udp_ports", "unaccepted", "unix_sockets", "widen",
]  # fmt: skip

REAPS_ORPHANS = True
"""prctl(2), PR_SET_CHILD_SUBREAPER."""


def below(pid: int) -> list[int]:
    """Return the living processes below `pid`, itself not among them, in ascending order."""
    found = _walk(pid)
    # One whose parent ends meanwhile moves up to a place that was read already: only a second look tells.
    return found or _walk(pid)


def most_children(pids: Iterable[int]) -> int:
    """Return how many living children the one of these processes has that has the most."""
    return max((sum(_lives(child) for child in _children(pid)) for pid in pids), default=0)


def _walk(pid: int) -> list[int]:
    found, waiting = [], [pid]
    while waiting:
        for child in _children(waiting.pop()):
            waiting.append(child)
            if _lives(child):
                found.append(child)
    return sorted(found)


def _children(pid: int) -> list[int]:
    """proc(5): each thread of a process has a list of the children that it made."""
    found: list[int] = []
    try:
        threads = os.listdir(f"/proc/{pid}/task")  # noqa: PTH208
    except OSError:
        return found
    for thread in threads:
        text = _read(f"/proc/{pid}/task/{thread}/children")
        found += [int(word) for word in text.split()]
    return found


def _lives(pid: int) -> bool:
    """Whether a process is more than an entry that waits to be collected (proc(5): the state follows the name)."""
    state = _read(f"/proc/{pid}/stat").rpartition(b")")[2].split()
    return bool(state) and state[0] not in (b"Z", b"X")


def _read(path: str) -> bytes:
    try:
        file = os.open(path, os.O_RDONLY)
    except OSError:
        return b""
    try:
        parts = []
        while chunk := os.read(file, 65536):
            parts.append(chunk)
        return b"".join(parts)
    except OSError:
        return b""
    finally:
        os.close(file)


class SocketTable:
    """The listening TCP sockets of some processes; remembers what it saw, so that looking again costs little."""

    def __init__(self) -> None:
        self._seen: tuple[frozenset[int], tuple[int, ...]] | None = None
        self._found: dict[Address, int] = {}
        self._others: set[int] = set()

    def of(self, pids: Iterable[int]) -> dict[Address, int]:
        """Return the addresses on which these processes listen, each with the first process that does."""
        pids = tuple(sorted(pids))
        listening = listening_sockets()
        seen = (frozenset(listening), pids)
        if seen != self._seen:
            found: dict[Address, int] = {}
            own: set[int] = set()
            for pid in pids:
                for inode in _sockets_of(pid):
                    if inode in listening:
                        own.add(inode)
                        found.setdefault(listening[inode], pid)
            self._seen, self._found = seen, found
            self._others = {address[1] for inode, address in listening.items() if inode not in own}
        return self._found

    def is_shared(self, port: int) -> bool:
        """Whether somebody else may listen on a port of these processes; where that is not known, it may be."""
        return port in self._others


sockets = SocketTable


def listening_sockets() -> dict[int, Address]:
    """Return the address of each listening TCP socket of this machine by its inode."""
    try:
        return {inode: address for family in (_socket.AF_INET, _socket.AF_INET6) for inode, address in _diag(family)}
    except OSError:  # no such sockets here (a sandbox): the slower table says the same
        return _from_table()


class NewListeners:
    """Tells whether the listening TCP sockets of this machine are other than when it was last asked; that costs very little.

    The kernel's answer is compared as it is: its sockets are told apart only where something is new.
    """

    def __init__(self) -> None:
        """Ask for the first time; raises `OSError` where the kernel does not answer (a sandbox)."""
        self._links: list[_socket.socket] = []
        try:
            for _ in _FAMILIES:
                link = _socket.socket(_socket.AF_NETLINK, _socket.SOCK_RAW, 4)
                self._links.append(link)
                link.settimeout(2)
            self._seen = self._answers()
        except OSError:
            self.close()
            raise

    def _answers(self) -> list[bytes]:
        return [_dumped(link, family) for link, family in zip(self._links, _FAMILIES, strict=True)]

    def changed(self) -> bool:
        """Whether they are other; True as well where that cannot be known, so that somebody looks."""
        try:
            found = self._answers()
        except OSError:
            return True
        before, self._seen = self._seen, found
        return found != before

    def close(self) -> None:
        """Let go of the links to the kernel."""
        for link in self._links:
            link.close()
        self._links = []


def new_listeners() -> NewListeners | None:
    """Return what tells at little cost that somebody listens anew; None where the kernel does not answer."""
    try:
        return NewListeners()
    except OSError:
        return None


_FAMILIES = (_socket.AF_INET, _socket.AF_INET6)


def ports_of_all() -> list[int]:
    """Return the ports on which anything listens."""
    return [address[1] for address in listening_sockets().values()]


_LISTEN = 10
_REQUEST_DUMP = 0x301
_BY_FAMILY = 20
_DONE, _ERROR = 3, 2
_HEADER = struct.Struct("=IH")


def _request(family: int) -> bytes:
    request = struct.pack("=BBBxI48x", family, _socket.IPPROTO_TCP, 0, 1 << _LISTEN)
    return struct.pack("=IHHII", 16 + len(request), _BY_FAMILY, _REQUEST_DUMP, 1, 0) + request


_REQUESTS: dict[int, bytes] = {family: _request(family) for family in _FAMILIES}


def _dumped(link: _socket.socket, family: int) -> bytes:
    """Return all that the kernel answers, up to the message that says it is done; raises `OSError`."""
    link.send(_REQUESTS[family])
    found = b""
    while True:
        data = link.recv(1 << 18)
        found += data
        at = 0
        while at + 16 <= len(data):
            length, kind = _HEADER.unpack_from(data, at)
            if kind == _DONE:
                return found
            if kind == _ERROR or length < 16:
                raise OSError("sock_diag is refused")
            at += (length + 3) & ~3


def _diag(family: int) -> Iterator[tuple[int, Address]]:
    """Ask the kernel for listening sockets alone (sock_diag(7)): /proc/net/tcp goes through all that there could be."""
    with _socket.socket(_socket.AF_NETLINK, _socket.SOCK_RAW, 4) as link:
        link.settimeout(2)
        link.send(_REQUESTS[family])
        while True:
            data = link.recv(1 << 18)
            at = 0
            while at + 16 <= len(data):
                length, kind = struct.unpack_from("=IH", data, at)
                if kind == _DONE:
                    return
                if kind == _ERROR:
                    raise OSError("sock_diag is refused")
                port = int.from_bytes(data[at + 20 : at + 22], "big")
                size = 4 if family == _socket.AF_INET else 16
                address = _socket.inet_ntop(family, data[at + 24 : at + 24 + size])
                yield int.from_bytes(data[at + 84 : at + 88], sys.byteorder), (address, port)
                at += (length + 3) & ~3


def _from_table() -> dict[int, Address]:
    """proc_net_tcp(5): the second field is the local address, the fourth the state (0A: LISTEN), the tenth the inode."""
    found: dict[int, Address] = {}
    for table in ("/proc/self/net/tcp", "/proc/self/net/tcp6"):
        for line in _read(table).split(b"\n")[1:]:
            if b" 0A " in line:
                fields = line.split()
                found[int(fields[9])] = _address(fields[1])
    return found


def _address(field: bytes) -> Address:
    """An address in words of 32 bits, each in the machine's own order, and a port, all in hexadecimal."""
    import ipaddress

    words, _, port = field.partition(b":")
    raw = bytes.fromhex(words.decode())
    if sys.byteorder == "little":
        raw = b"".join(raw[i : i + 4][::-1] for i in range(0, len(raw), 4))
    return str(ipaddress.ip_address(raw)), int(port, 16)


def _sockets_of(pid: int) -> Iterator[int]:
    try:
        numbers = os.listdir(f"/proc/{pid}/fd")  # noqa: PTH208
    except OSError:
        return
    for number in numbers:
        try:
            target = os.readlink(f"/proc/{pid}/fd/{number}")  # noqa: PTH115
        except OSError:
            continue
        if target.startswith("socket:["):
            yield int(target[8:-1])


def cpu_seconds(pids: Iterable[int]) -> float:
    """Return the processor time of some processes: proc(5), fields 14 to 17 of stat, in clock ticks."""
    ticks = 0
    for pid in pids:
        fields = _read(f"/proc/{pid}/stat").rpartition(b")")[2].split()
        ticks += sum(int(field) for field in fields[11:15])
    return ticks / os.sysconf("SC_CLK_TCK")


def udp_ports(pids: Iterable[int]) -> list[int]:
    """Return the UDP ports to which some processes are bound and that are connected to nobody (state 07)."""
    bound = {}
    for table in ("/proc/self/net/udp", "/proc/self/net/udp6"):
        for line in _read(table).split(b"\n")[1:]:
            fields = line.split()
            if len(fields) > 9 and fields[3] == b"07":
                bound[int(fields[9])] = int(fields[1].rpartition(b":")[2], 16)
    return sorted({bound[inode] for pid in pids for inode in _sockets_of(pid) if inode in bound})


def unaccepted(port: int) -> int:
    """Return how many connections wait at a TCP port for its server to take them.

    proc_net_tcp(5): of a listening socket (state 0A) the fifth field, behind the colon, is the length of that queue.
    """
    waiting = 0
    for table in ("/proc/self/net/tcp", "/proc/self/net/tcp6"):
        for line in _read(table).split(b"\n")[1:]:
            fields = line.split()
            if b" 0A " in line and int(fields[1].rpartition(b":")[2], 16) == port:
                waiting += int(fields[4].rpartition(b":")[2], 16)
    return waiting


def unix_sockets(pids: Iterable[int]) -> list[str]:
    """Return the paths of UNIX sockets on which these processes listen.

    /proc/net/unix: the fourth field are flags (00010000: accepts connections), the seventh the inode, the eighth the path.
    """
    listening = {}
    for line in _read("/proc/self/net/unix").split(b"\n")[1:]:
        fields = line.split(None, 7)
        if len(fields) == 8 and fields[3] == b"00010000":
            listening[int(fields[6])] = os.fsdecode(fields[7])
    return sorted({listening[inode] for pid in pids for inode in _sockets_of(pid) if inode in listening})


def is_blind() -> bool:
    """Whether /proc, which was there, is there no longer (a run in a mount namespace of its own may hide it)."""
    return not Path("/proc/self/stat").exists()


class _Held:
    """A process that is held by a handle of the kernel: pidfd_open(2)."""

    def __init__(self, pid: int) -> None:
        """Raises `OSError`."""
        self.pid = pid
        self._handle: int | None = os.pidfd_open(pid)

    def lives(self) -> bool:
        if self._handle is None:
            return False
        poll = select.poll()
        poll.register(self._handle, select.POLLIN)  # it becomes readable when the process has ended
        return not poll.poll(0)

    def kill(self) -> bool:
        if self._handle is None:
            return False
        try:
            signal.pidfd_send_signal(self._handle, signal.SIGKILL)
        except ProcessLookupError:
            return True
        except OSError:
            return False
        return True

    def forget(self) -> None:
        if self._handle is not None:
            os.close(self._handle)
            self._handle = None


def handle(pid: int, *, exact: bool) -> Handle:
    """Return a handle of a process: of the kernel's where it is to be exact, else by when it started."""
    if exact:
        with contextlib.suppress(OSError):
            return _Held(pid)
    return posix.Started(pid)


def widen(pipe: int, size: int) -> None:
    """A wider pipe spares a fast run most of its waiting (fcntl(2), F_SETPIPE_SZ)."""
    import fcntl

    with contextlib.suppress(OSError):
        fcntl.fcntl(pipe, fcntl.F_SETPIPE_SZ, size)


_FICLONE = 0x40049409
"""ioctl_ficlonerange(2)."""


def share_content(old: IO[bytes], new: IO[bytes]) -> None:
    """Let a new file have the blocks of an old one until either is written to; raises `OSError`."""
    import fcntl

    fcntl.ioctl(new.fileno(), _FICLONE, old.fileno())
