"""The program without its start-up: a process that has loaded Dokimon, and forks itself for each call.

A call is a process of its own, with its own arguments, variables, folder and streams, and ends as the installed program
does. What it saves is starting Python and loading modules, a quarter of a second each time. Whatever is about start-up,
signals or terminals uses the installed program itself (`World.start`).

`python program.py NUMBER` serves calls on the UNIX socket of that file descriptor, one after the other.
"""

from __future__ import annotations

import gc
import json
import os
import pkgutil
import selectors
import signal
import socket
import subprocess
import sys
import time
import traceback
from functools import cache
from importlib import import_module
from inspect import signature
from pathlib import Path
from typing import Any, NamedTuple

from dokimon.core import expressions

_LIBRARIES = (
    "anyio", "bs4", "certifi", "concurrent.futures.thread", "encodings.idna", "h11", "http.client", "httpcore", "httpx",
    "ipaddress",
    "jinja2", "sqlite3",
    "packaging.requirements", "packaging.version", "platform", "psutil", "regex", "rich.live", "soupsieve", "ssl",
    "tomlkit", "yaml", "zipfile", "lxml.etree", "bs4.builder._lxml")  # fmt: skip
"""What the program loads when it needs it."""


class Outcome(NamedTuple):
    """How a call ended: its exit status (negative: the signal), what it wrote to standard output and to standard error."""

    status: int
    out: str
    err: str


class Program:
    """The loaded program, for one process of tests. Use `call`, and `close` at the end."""

    def __init__(self, folder: Path) -> None:
        ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        self._server = subprocess.Popen(
            [sys.executable, __file__, str(theirs.fileno())], pass_fds=[theirs.fileno()], cwd=folder
        )
        theirs.close()
        self._link = ours

    def call(self, arguments: list[str], folder: Path, environment: dict[str, str], seconds: float) -> Outcome:
        """Run the program to its end, at most `seconds`."""
        request = json.dumps({"arguments": arguments, "folder": str(folder), "environment": environment}).encode()
        (out, out_end), (err, err_end) = os.pipe(), os.pipe()
        socket.send_fds(self._link, [request], [out_end, err_end])
        os.close(out_end)
        os.close(err_end)
        pid = int(self._link.recv(64))
        try:
            written, said = _read_both(out, err, pid, seconds)
        finally:
            status = int(self._link.recv(64))
        return Outcome(status, written.decode("utf-8", "replace"), said.decode("utf-8", "replace"))

    def close(self) -> None:
        """End it."""
        self._link.close()
        self._server.wait(10)


def _read_both(out: int, err: int, pid: int, seconds: float) -> tuple[bytes, bytes]:
    """Read two pipes to their ends; whoever still writes after so many seconds is killed."""
    pieces: dict[int, list[bytes]] = {out: [], err: []}
    deadline = time.monotonic() + seconds
    with selectors.DefaultSelector() as selector:
        for pipe in pieces:
            selector.register(pipe, selectors.EVENT_READ)
        while selector.get_map():
            ready = selector.select(max(deadline - time.monotonic(), 0))
            if not ready:
                os.kill(pid, signal.SIGKILL)
                raise TimeoutError(f"the program did not end within {seconds:g} s")
            for key, _ in ready:
                piece = os.read(key.fd, 1 << 16)
                pieces[key.fd].append(piece)
                if not piece:
                    selector.unregister(key.fd)
                    os.close(key.fd)
    return b"".join(pieces[out]), b"".join(pieces[err])


def _serve(link: socket.socket) -> None:
    for name in (*_LIBRARIES, *_own_modules()):
        import_module(name)
    _warm_up()
    face: Any = import_module("dokimon.cli.app")
    face._command = cache(face._command)
    for name in face.COMMANDS:
        face._command(name)
    gc.freeze()  # a collection in a fork would copy all that is shared with it
    while True:
        data, streams, _, _ = socket.recv_fds(link, 1 << 20, 2)
        if not data:
            return
        pid = os.fork()
        if not pid:
            link.close()
            _become(json.loads(data), streams)
        for stream in streams:
            os.close(stream)
        link.send(str(pid).encode())
        _, ended = os.waitpid(pid, 0)
        link.send(str(os.waitstatus_to_exitcode(ended)).encode())


def _warm_up() -> None:
    """Read the data that ships with Dokimon and compile its expressions once, rather than in each call."""
    for name, module in list(sys.modules.items()):
        for value in list(vars(module).values()) if name.startswith("dokimon.core.") else ():
            if hasattr(value, "cache_info") and not signature(value).parameters:
                value()
    patterns: Any = import_module("dokimon.core.checks.error_pages")
    patterns.recognised("", import_module("dokimon.core.checks.html").Page(None, "", 0))
    catalogue: Any = import_module("dokimon.core.machine.catalogue")
    for name in catalogue.known_tools():
        catalogue.find_tool(name)
    for each in gc.get_objects():
        if isinstance(each, expressions._Late):
            assert each.pattern is not None


def _own_modules() -> list[str]:
    """All of Dokimon but for what is a program of its own."""
    import dokimon

    names = [each.name for each in pkgutil.walk_packages(dokimon.__path__, "dokimon.") if "saltmarsh" not in each.name]
    return [
        name
        for name in names
        if not name.endswith(("__main__", ".warden", ".serial", ".browser", ".devtools", ".screen_look"))
    ]


def _become(request: dict[str, Any], streams: list[int]) -> None:
    """Be the program for one call; never returns."""
    try:
        nothing = os.open(os.devnull, os.O_RDONLY)
        for number, stream in enumerate((nothing, *streams)):
            os.dup2(stream, number)
            os.close(stream)
        opened = (open(i, mode, encoding="utf-8") for i, mode in enumerate("rww"))  # noqa: SIM115, PTH123
        sys.stdin, sys.stdout, sys.stderr = opened
        os.chdir(request["folder"])
        os.environ.clear()
        os.environ.update(request["environment"])
        sys.argv = ["dokimon", *request["arguments"]]
        from dokimon.cli.app import main

        main()
    except BaseException:
        traceback.print_exc()
    os._exit(70)


if __name__ == "__main__":
    _serve(socket.socket(fileno=int(sys.argv[1])))
