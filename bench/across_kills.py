"""Whether anything is left when `smoke --across … --jobs 2` is killed: `python bench/across_kills.py [TIMES]`.

Each time it is ended at a random moment by SIGKILL, SIGINT, SIGTERM or SIGHUP in turn. Looked for, within six seconds:
processes of the run (one of them in a session of its own), of Dokimon and of clones; the port; clones; entries of worktrees;
changes of the checkout.
"""

from __future__ import annotations

import os
import random
import signal
import socket
import subprocess
import sys
import tempfile
import time
from pathlib import Path

SERVER = """
import http.server, subprocess, sys
subprocess.Popen([sys.executable, "-c", "import time; time.sleep(600)  # left-of-across"], start_new_session=True)
http.server.HTTPServer(("127.0.0.1", 8765), http.server.SimpleHTTPRequestHandler).serve_forever()
"""
SETTINGS = """
format = 1
[[need]]
tool = "python"
version = ">=3.9"
[[run]]
name = "left-of-across"
command = "python left_of_across.py"
port = 8765
"""
SIGNALS = (signal.SIGKILL, signal.SIGINT, signal.SIGTERM, signal.SIGHUP)


def git(folder: Path, *arguments: str) -> str:
    name = ["-c", "user.name=Gull", "-c", "user.email=gull@example.org"]
    return subprocess.run(["git", *name, *arguments], cwd=folder, check=True, capture_output=True, text=True).stdout


def left(folder: Path, home: Path) -> list[str]:
    processes = subprocess.run(["ps", "-eo", "args"], check=False, capture_output=True, text=True).stdout.splitlines()
    marks = ("left-of-across", "left_of_across", str(home), "--across python --jobs")
    found = [each for each in processes if any(mark in each for mark in marks)]
    found += [str(each) for each in (home / ".cache/dokimon/clones").glob("*")]
    with socket.socket() as probe:
        found += ["port 8765"] if probe.connect_ex(("127.0.0.1", 8765)) == 0 else []
    found += git(folder, "worktree", "list").splitlines()[1:]
    return found + git(folder, "status", "--porcelain").splitlines()


def main(times: int) -> int:
    wrong = 0
    with tempfile.TemporaryDirectory() as made:
        folder, home = Path(made, "ferries"), Path(made, "home")
        folder.mkdir()
        home.mkdir()
        (folder / "left_of_across.py").write_text(SERVER)
        (folder / "dokimon.toml").write_text(SETTINGS)
        for arguments in (["init", "-q"], ["add", "-A"], ["commit", "-q", "-m", "x"]):
            git(folder, *arguments)
        environment = {name: value for name, value in os.environ.items() if name != "VIRTUAL_ENV"} | {"HOME": str(home)}
        command = [Path(sys.executable).with_name("dokimon"), "smoke", "--across", "python", "--jobs", "2", "-q"]
        for number in range(times):
            process = subprocess.Popen(
                command, cwd=folder, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
            )
            time.sleep(random.uniform(0.05, 9))
            process.send_signal(SIGNALS[number % len(SIGNALS)])
            process.wait(60)
            until = time.monotonic() + 6
            while (found := left(folder, home)) and time.monotonic() < until:
                time.sleep(0.1)
            wrong += bool(found)
            name = SIGNALS[number % len(SIGNALS)].name
            print(f"{number + 1}: {name}, status {process.returncode}: {found or 'nothing left'}")
    print(f"something was left {wrong} of {times} times")
    return 1 if wrong else 0


if __name__ == "__main__":
    raise SystemExit(main(int(sys.argv[1]) if len(sys.argv) > 1 else 30))
