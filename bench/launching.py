"""How fast a run is known to be up, how fast it is stopped, and what its output costs: `python bench/launching.py`."""

from __future__ import annotations

import hashlib
import os
import resource
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Sequence
from pathlib import Path

from dokimon.core.processes.masking import secrets_in
from dokimon.core.processes.output import Output
from dokimon.core.processes.readiness import Awaited, wait_until_up
from dokimon.core.processes.stopping import stop
from dokimon.core.processes.tree import Tree

_SERVER = """
import sys, time
from http.server import BaseHTTPRequestHandler, HTTPServer
class Handler(BaseHTTPRequestHandler):
    def do_GET(self):
        self.send_response(200); self.end_headers(); self.wfile.write(b"tide")
    def log_message(self, *_): pass
time.sleep(0.3)
server = HTTPServer(("127.0.0.1", 0), Handler)
open(sys.argv[1], "w").write(str(time.monotonic()))
server.serve_forever()
"""

_CHILDREN = """
import os, signal, sys, time
for number in range(49):
    if os.fork() == 0: break
def leave(*_):
    time.sleep(0.05)
    open(f"{sys.argv[1]}.{os.getpid()}", "w").write(str(time.monotonic()))
    os._exit(0)
signal.signal(signal.SIGINT, leave)
while True: time.sleep(60)
"""

_BYTES = 1_000_000_000


def _start(command: list[str], output: Output | None = None) -> Tree:
    return Tree.start(command, Path.cwd(), os.environ, output or Output())


def _up(folder: Path, starts: int) -> None:
    late = []
    for number in range(starts):
        told = folder / f"up{number}"
        tree = _start([sys.executable, "-c", _SERVER, str(told)])
        state = wait_until_up(tree, Awaited(within=20), threading.Event())
        now = time.monotonic()
        assert state.how == "up", state
        late.append((now - float(told.read_text())) * 1000)
        stop(tree)
    print(f"from listening to up, {starts} starts: median {statistics.median(late):.0f} ms, worst {max(late):.0f} ms")


def _looking() -> None:
    tree = _start([sys.executable, "-c", "import time; time.sleep(60)"])
    before = time.process_time()
    wait_until_up(tree, Awaited(within=20), threading.Event())
    print(
        f"looking at a run that never gets up, over 20 s: {(time.process_time() - before) / 20 * 100:.1f} % of a core"
    )
    stop(tree)


def _stopping(folder: Path, rounds: int) -> None:
    late = []
    for number in range(rounds):
        mark = folder / f"stop{number}"
        tree = _start([sys.executable, "-c", _CHILDREN, str(mark)])
        while len(tree.processes()) < 50:
            time.sleep(0.01)
        time.sleep(0.2)
        stopped = stop(tree)
        now = time.monotonic()
        assert stopped.by == "SIGINT", stopped
        ends = [float(path.read_text()) for path in folder.glob(f"stop{number}.*")]
        late.append((now - max(ends)) * 1000)
    told = f"median {statistics.median(late):.0f} ms, worst {max(late):.0f} ms"
    print(f"from the end of the last of 50 processes to the report, {rounds} rounds: {told}")


_SECRETS = tuple(
    form
    for number in range(12)
    for form in secrets_in({"TIDE_TOKEN": hashlib.sha256(str(number).encode()).hexdigest()[:32] + "+Gq"[number % 3]})
)
"""Twelve secrets, each in all of its forms."""


def _printing(folder: Path, rounds: int, secrets: Sequence[bytes] = ()) -> None:
    line = f"yes 'high water at Gannet Point 06:12, low water 12:30' | head -c {_BYTES}"
    ratios, growth = [], 0.0
    for number in range(rounds):
        started = time.monotonic()
        subprocess.run(["/bin/sh", "-c", f"{line} > {folder}/plain"], check=True)
        plain = time.monotonic() - started
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        output = Output(log=folder / f"log{number}", secrets=secrets, largest=2 * _BYTES)
        started = time.monotonic()
        tree = _start(["/bin/sh", "-c", line], output)
        while not tree.wait(0.05):
            pass
        output.wait(30)
        ratios.append((time.monotonic() - started) / plain)
        tree.close()
        growth = max(growth, (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024)
        assert (folder / f"log{number}").stat().st_size == _BYTES
        (folder / f"log{number}").unlink()
    told = f"{statistics.median(ratios):.2f} times as long as into a file, memory grew by {growth:.0f} MB"
    with_secrets = f" with {len(secrets)} forms of secrets to mask" if secrets else ""
    print(f"printing 1 GB{with_secrets}, {rounds} rounds: {told}")


def main() -> None:
    """Measure and print."""
    with tempfile.TemporaryDirectory() as temporary:
        _up(Path(temporary), 50)
        _looking()
        _stopping(Path(temporary), 10)
        _printing(Path(temporary), 5)
        _printing(Path(temporary), 3, _SECRETS)


if __name__ == "__main__":
    main()
