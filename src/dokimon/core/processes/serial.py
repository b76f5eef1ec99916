"""A serial console as a program: what the port says is printed, what is typed is sent to it. A run of its own.

`python -m dokimon.core.launching.serial_reader WISH` takes one object of JSON: `port`, `speed` in baud, whether to `reset`
the board first, a pattern `until` which it listens, or so many `seconds`, and a `command` that is started beside it.
"""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import threading
import time
from importlib import import_module
from pathlib import Path
from typing import Any

_PORT_SECONDS = 20.0
_RESET_SECONDS = 0.1
_NO_PORT, _NOT_SAID, _GONE = 4, 5, 6


def main() -> int:
    """Print what the port says until it is enough; return the exit status."""
    wish = json.loads(sys.argv[1])
    serial = import_module("serial")
    beside = subprocess.Popen(wish["command"], stdin=subprocess.DEVNULL) if wish.get("command") else None
    try:
        port = _opened(serial, wish, beside)
        if port is None:
            return _NO_PORT
        if wish.get("reset"):
            _reset(port)
        threading.Thread(target=_send_what_is_typed, args=(port,), daemon=True).start()
        return _listen(serial, port, wish)
    except KeyboardInterrupt:
        return 0
    finally:
        if beside is not None:
            beside.terminate()


def _opened(serial: Any, wish: dict[str, Any], beside: subprocess.Popen[bytes] | None) -> Any:
    """Open the port, which may only appear while a board is being attached or a command is at work."""
    deadline = time.monotonic() + (_PORT_SECONDS if beside else 2.0)
    while True:
        try:
            return serial.Serial(wish["port"], wish["speed"], timeout=0.05)
        except serial.SerialException as wrong:
            if time.monotonic() > deadline or (beside and beside.poll() not in (None, 0)):
                there = Path(wish["port"]).exists()
                says = f"{wish['port']} cannot be opened: {wrong}" if there else f"there is no port {wish['port']}"
                print(says, file=sys.stderr)
                return None
        time.sleep(0.05)


def _reset(port: Any) -> None:
    """Pulse the lines that boards are reset by: RTS holds the chip down while DTR lets it boot from flash."""
    try:
        port.dtr, port.rts = False, True
        time.sleep(_RESET_SECONDS)
        port.rts = False
    except OSError:
        print("this port has no lines to reset a board by", file=sys.stderr)


def _send_what_is_typed(port: Any) -> None:
    while typed := os.read(sys.stdin.fileno(), 1024):
        port.write(typed)


def _listen(serial: Any, port: Any, wish: dict[str, Any]) -> int:
    until = re.compile(wish["until"].encode()) if wish.get("until") else None
    deadline = time.monotonic() + wish["seconds"] if wish.get("seconds") else None
    line = b""
    while deadline is None or time.monotonic() < deadline:
        try:
            piece = port.read(max(1, min(port.in_waiting, 4096)))
        except (serial.SerialException, OSError):
            print("the port is gone", file=sys.stderr)
            return _GONE
        sys.stdout.buffer.write(piece)
        sys.stdout.buffer.flush()
        whole, _, line = (line + piece).rpartition(b"\n")
        if until and (until.search(whole) or until.search(line)):
            return 0
        line = line[-4096:]
    if until is None:
        return 0
    print(f"no line matched {wish['until']} within {wish['seconds']:g} s", file=sys.stderr)
    return _NOT_SAID


if __name__ == "__main__":
    sys.exit(main())
