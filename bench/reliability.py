"""Many smoke checks in a row, under load, with Dokimon killed at random moments: `python bench/reliability.py [STARTS]`.

With `--browser` the page is looked at in Chromium too, and Dokimon is killed up to six seconds after its start.

After each one: is a process of it left, is its port held, is a temporary file there?
"""

from __future__ import annotations

import collections
import os
import random
import signal
import socket
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import psutil

_DOKIMON = str(Path(sys.executable).with_name("dokimon"))

_SERVER = """
import os, subprocess, sys, time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
class Handler(BaseHTTPRequestHandler):
    def do_GET(self):
        body = b"<!doctype html><title>Quay</title><p>Boats at the quay"
        self.send_response(200); self.send_header("Content-Type", "text/html"); self.end_headers(); self.wfile.write(body)
    def log_message(self, *_): pass
# A child in a session of its own, and one that became a daemon.
subprocess.Popen([sys.executable, "-c", "import time; time.sleep(300)"], start_new_session=True)
if os.fork() == 0:
    os.setsid()
    if os.fork() == 0:
        time.sleep(300)
    os._exit(0)
ThreadingHTTPServer(("127.0.0.1", int(sys.argv[1])), Handler).serve_forever()
"""

_ENDS = (None, signal.SIGKILL, signal.SIGKILL, signal.SIGKILL, signal.SIGINT, signal.SIGTERM, signal.SIGHUP)
"""How Dokimon ends: by itself, or by a signal at a random moment; its own kill counts thrice."""


def _left(home: str) -> list[psutil.Process]:
    found = []
    for process in psutil.process_iter():
        try:
            if process.environ().get("HOME") == home and process.status() != psutil.STATUS_ZOMBIE:
                found.append(process)
        except psutil.Error:
            continue
    return found


def _is_held(port: int) -> bool:
    with socket.socket() as probe:
        return probe.connect_ex(("127.0.0.1", port)) == 0


def main() -> None:
    """Start, end, look, and print what was left."""
    numbers = [int(each) for each in sys.argv[1:] if each.isdecimal()]
    browser = "--browser" in sys.argv
    starts, latest = (numbers or [200])[0], 6.0 if browser else 2.5
    dice = random.Random(20261125)
    load = [subprocess.Popen(["/bin/sh", "-c", "while :; do :; done"]) for _ in range(os.cpu_count() or 1)]
    counts: collections.Counter[str] = collections.Counter()
    slowest = 0.0
    try:
        with tempfile.TemporaryDirectory() as temporary:
            folder, home, scratch = (Path(temporary) / name for name in ("quay", "home", "scratch"))
            for each in (folder, home, scratch):
                each.mkdir()
            (folder / ".git").mkdir()
            (folder / "server.py").write_text(_SERVER)
            with socket.socket() as probe:
                probe.bind(("127.0.0.1", 0))
                port = probe.getsockname()[1]
            (folder / "dokimon.toml").write_text(
                f'format = 1\n[[run]]\nname = "quay"\ncommand = "{sys.executable} server.py {port}"\nport = {port}\n'
                + ('[[smoke]]\nrender = "/"\nshows = "Boats"\n' if browser else "")
            )
            environment = {**os.environ, "HOME": str(home), "TMPDIR": str(scratch)}
            for _ in range(starts):
                end = dice.choice(_ENDS)
                process = subprocess.Popen(
                    [_DOKIMON, "smoke", "--quiet"], cwd=folder, env=environment,
                    stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
                )  # fmt: skip
                if end is not None:
                    time.sleep(dice.uniform(0.05, latest))
                    process.send_signal(end)
                process.wait()
                counts[end.name if end else "by itself"] += 1
                began = time.monotonic()
                while (left := _left(str(home))) and time.monotonic() - began < 5:
                    time.sleep(0.02)
                slowest = max(slowest, time.monotonic() - began)
                counts["processes left"] += len(left)
                counts["ports held"] += _is_held(port)
                counts["temporary files left"] += len(list(scratch.iterdir()))
    finally:
        for process in load:
            process.kill()
    ends = ", ".join(f"{name} {counts[name]}" for name in ("by itself", "SIGKILL", "SIGINT", "SIGTERM", "SIGHUP"))
    print(f"{starts} starts under load on every core; ended: {ends}")
    for name in ("processes left", "ports held", "temporary files left"):
        print(f"{name}: {counts[name]}")
    print(f"all was gone {slowest * 1000:.0f} ms after Dokimon's end at the latest")


if __name__ == "__main__":
    main()
