"""Listening sockets: those of a run's own processes, and who else holds a port."""

from __future__ import annotations

import socket
from collections.abc import Collection, Iterable
from urllib.parse import urlsplit

from dokimon.core.machine.platform import is_loopback
from dokimon.core.processes.systems.face import command_of, here, is_held
from dokimon.core.processes.systems.values import Sockets
from dokimon.core.processes.tree import Tree
from dokimon.core.report.model import Listening, Stranger
from dokimon.core.text import clean

_ANY_ADDRESS = {"0.0.0.0": "127.0.0.1", "::": "::1"}
"""What listens on every address is asked on loopback."""

_MOST_DRAWN = 20
"""How often the system is asked for a free port, until it names one that nobody else was given."""


def listeners(pids: Iterable[int], table: Sockets | None = None) -> tuple[Listening, ...]:
    """Return the listening TCP sockets of these processes, each address and port once, in a fixed order."""
    # `::ffff:127.0.0.1` is 127.0.0.1: an IPv4 address as sockets of both families name it (RFC 4291, section 2.5.5.2).
    found = {(ip.removeprefix("::ffff:") if "." in ip else ip, at): pid for (ip, at), pid in _of(pids, table).items()}
    ordered = sorted(found, key=lambda address: (address[1], address[0]))
    return tuple(
        Listening(address=ip, port=port, pid=found[ip, port], exposed=not is_loopback(ip)) for ip, port in ordered
    )


def listeners_of(tree: Tree, table: Sockets | None = None) -> tuple[Listening, ...]:
    """Return the listening TCP sockets of a tree's processes, and those that a container engine holds open for it."""
    own = listeners(tree.processes(), table)
    taken = {each.port for each in own}
    held = [each for port in sorted(tree.published - taken) for each in strangers(port)]
    return (*own, *(
        Listening(address=each.address, port=each.port, pid=each.pid or 0, exposed=not is_loopback(each.address))
        for each in held
    ))  # fmt: skip


def _of(pids: Iterable[int], table: Sockets | None) -> dict[tuple[str, int], int]:
    return (table or here().sockets()).of(pids)


def asked_address(listening: Listening) -> str:
    """Return the address under which this socket is asked: loopback for one that listens on every address."""
    return _ANY_ADDRESS.get(listening.address, listening.address)


def origin(listening: Listening, scheme: str = "http") -> str:
    """Return the URL under which this very socket is asked: its own address, so that no other can answer for it."""
    address = asked_address(listening)
    return f"{scheme}://{f'[{address}]' if ':' in address else address}:{listening.port}"


def strangers(port: int, own: Iterable[int] = ()) -> tuple[Stranger, ...]:
    """Return who listens on `port` apart from the processes `own`; a holder that cannot be looked at has no pid."""
    if not is_held(port):
        return ()
    import psutil  # late: it takes 10 ms to load and 10 ms to ask, and most ports are nobody's

    mine = set(own)
    found: dict[int | None, Stranger] = {}
    try:
        connections = psutil.net_connections(kind="tcp")
    except psutil.Error:
        return ()
    for connection in connections:
        if (
            connection.status != psutil.CONN_LISTEN
            or not connection.laddr
            or connection.laddr.port != port
            or connection.pid in mine
        ):
            continue
        command = clean(command_of(connection.pid), 160) if connection.pid else None
        found.setdefault(
            connection.pid, Stranger(port=port, address=connection.laddr.ip, pid=connection.pid, command=command)
        )
    return tuple(found[pid] for pid in sorted(found, key=lambda pid: pid or 0))


def own_addresses() -> tuple[str, ...]:
    """Return the IPv4 addresses under which other devices of its networks reach this machine, in a fixed order."""
    import psutil

    up = {name for name, state in psutil.net_if_stats().items() if state.isup}
    found = {
        each.address
        for name, addresses in psutil.net_if_addrs().items()
        if name in up
        for each in addresses
        if each.family == socket.AF_INET and not is_loopback(each.address)
    }
    return tuple(sorted(found))


def addresses_for_others(page: str | None, listening: Iterable[Listening]) -> tuple[str, ...]:
    """Return the URLs under which other devices reach a page; none where its port listens on loopback alone."""
    if page is None:
        return ()
    parts = urlsplit(page)
    exposed = [each for each in listening if each.exposed and each.port == parts.port]
    if not exposed:
        return ()
    on_every = any(each.address in _ANY_ADDRESS for each in exposed)
    hosts = own_addresses() if on_every else tuple(each.address for each in exposed if ":" not in each.address)
    return tuple(f"{parts.scheme}://{host}:{parts.port}/" for host in hosts)


def free_port(after: int | None = None, given: Collection[int] = ()) -> int:
    """Return a TCP port that is free on loopback at this moment: one of the twenty after `after`, if it can be.

    It is none of those that were `given` out already.
    """
    near = [*range(after + 1, min(after + 21, 65536))] if after else []
    for port in [*near, *[0] * _MOST_DRAWN]:
        with socket.socket() as probe:
            try:
                probe.bind(("127.0.0.1", port))
            except OSError:
                continue
            found = int(probe.getsockname()[1])
            if found not in given:
                return found
    raise OSError("no port is free")
