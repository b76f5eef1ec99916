"""Dokimon killed at random moments of a live change: `python bench/live_change_kills.py [KILLS]`.

After each: is the file what it was, at once or after the next Dokimon command in that checkout?
"""

from __future__ import annotations

import collections
import os
import random
import subprocess
import sys
import tempfile
import time
from pathlib import Path

_DOKIMON = str(Path(sys.executable).with_name("dokimon"))

_SERVER = """
import sys
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
class Handler(BaseHTTPRequestHandler):
    def do_GET(self):
        body = open("page.txt", "rb").read()[-4096:]
        self.send_response(200); self.end_headers(); self.wfile.write(body)
    def log_message(self, *_): pass
ThreadingHTTPServer(("127.0.0.1", int(sys.argv[1])), Handler).serve_forever()
"""

_SETTINGS = """
format = 1
[[run]]
name = "quay"
command = "{python} server.py {{port}}"
port = "any"
"""

_CHANGE = """
[[smoke]]
change = "page.txt"
replace = "Boats"
by = "Ferries and all that floats"
"""


def main() -> None:
    """Start, kill, look, and print what was seen."""
    kills = int(sys.argv[1]) if len(sys.argv) > 1 else 100
    dice = random.Random(20261125)
    counts: collections.Counter[str] = collections.Counter()
    with tempfile.TemporaryDirectory() as temporary:
        folder, home = Path(temporary, "quay"), Path(temporary, "home")
        folder.mkdir()
        home.mkdir()
        (folder / "server.py").write_text(_SERVER)
        # Several changes one after the other, of a file of three megabytes, so that most of the time is spent in them.
        (folder / "dokimon.toml").write_text(_SETTINGS.format(python=sys.executable) + _CHANGE * 12)
        page = folder / "page.txt"
        original = b"tide table " * 290_000 + b"Boats go to Heron Quay\n"
        page.write_bytes(original)
        environment = {**os.environ, "HOME": str(home)}
        environment.pop("XDG_CACHE_HOME", None)
        for _ in range(kills):
            process = subprocess.Popen(
                [_DOKIMON, "smoke", "--quiet"], cwd=folder, env=environment,
                stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
            )  # fmt: skip
            began = time.monotonic()
            while page.stat().st_size == len(original) and process.poll() is None and time.monotonic() - began < 20:
                time.sleep(0.001)
            time.sleep(dice.uniform(0, 0.06))
            process.kill()
            process.wait()
            changed = page.read_bytes() != original
            counts["changed when it was killed" if changed else "as it was when it was killed"] += 1
            subprocess.run(
                [_DOKIMON, "needs", "--quiet"], cwd=folder, env=environment, capture_output=True, check=False
            )
            counts["other than it was after the next command"] += page.read_bytes() != original
            counts["entries left in the journal"] += len(list((home / ".cache/dokimon/changes").glob("*.json")))
    print(f"{kills} kills at random moments of live changes")
    for name in (
        "changed when it was killed", "as it was when it was killed", "other than it was after the next command",
        "entries left in the journal",
    ):  # fmt: skip
        print(f"{name}: {counts[name]}")


if __name__ == "__main__":
    main()
