"""Servers that lie, hang, drip and flood: each look at one ends in time, with a verdict, and never passes what was cut."""

from __future__ import annotations

import contextlib
import socket
import threading
import time
import tomllib
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

import pytest

from dokimon.core.checks import http
from dokimon.core.checks.http import Http
from dokimon.core.processes.sockets import Listening
from test_checks import looked

SERVERS: Mapping[str, dict[str, Any]] = tomllib.loads(
    (Path(__file__).parent / "fuzz/lying_servers.toml").read_text("utf-8")
)
LIMIT = 0.7


@contextlib.contextmanager
def server(what: Mapping[str, Any]) -> Iterator[str]:
    """A server that says to everybody what it is told to say."""
    listening = socket.create_server(("127.0.0.1", 0), backlog=50)
    over = threading.Event()

    def speak(link: socket.socket) -> None:
        with link, contextlib.suppress(OSError):
            link.settimeout(10)
            link.recv(4096)
            link.sendall(what["says"].encode("latin-1"))
            link.sendall(what.get("body", "").encode() * what.get("body_times", 0))
            then = what.get("then", "close")
            if then == "reset":
                link.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, b"\x01\x00\x00\x00\x00\x00\x00\x00")
            flood = {"flood": b"x" * 60_000, "flood-body": b"1\r\nx\r\n" * 5000, "drip": b"x"}.get(then, b"")
            while not over.is_set() and then not in ("close", "reset"):
                link.sendall(flood)
                over.wait(0.05 if then != "flood" else 0.002)

    def accept() -> None:
        with contextlib.suppress(OSError):
            while True:
                link, _ = listening.accept()
                threading.Thread(target=speak, args=(link,), daemon=True).start()

    threading.Thread(target=accept, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{listening.getsockname()[1]}"
    finally:
        over.set()
        listening.close()


@pytest.mark.parametrize("name", SERVERS)
def test_every_look_at_a_lying_server_ends(name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(http, "PAGE_SECONDS", LIMIT)
    what = SERVERS[name]
    with server(what) as origin:
        begun, work = time.monotonic(), time.process_time()
        checks = looked(Http(get="/"), origin=origin)
        assert time.monotonic() - begun < 20 and time.process_time() - work < 15, "it took too long"
    assert checks and all(check.verdict and check.seen for check in checks)
    shown = "".join(f"{check.name}{check.expected}{check.seen}" for check in checks)
    assert not any(ord(char) < 32 or 0x7F <= ord(char) < 0xA0 for char in shown), shown
    assert all(len(check.seen) <= 400 for check in checks)
    if what.get("then", "close") in ("drip", "hang"):
        assert checks[0].verdict != "passed", checks[0]


@pytest.mark.parametrize(
    "name", ["header-drips", "status-drips", "header-endless", "status-100-for-ever", "empty-and-hangs"]
)
def test_no_lie_counts_as_up(name: str) -> None:
    from dokimon.core.processes.answering import answer_of

    with server(SERVERS[name]) as origin:
        at = Listening(address="127.0.0.1", port=int(origin.rpartition(":")[2]), pid=1, exposed=False)
        answered: list[object] = []
        asking = threading.Thread(target=lambda: answered.append(answer_of(at, "http", LIMIT)), daemon=True)
        asking.start()
        asking.join(LIMIT + 3)
        assert answered == [None]
