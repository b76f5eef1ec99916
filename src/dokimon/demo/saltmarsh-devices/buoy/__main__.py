"""A stand-in for the channel buoy: a board that boots on a pseudo-terminal. `python -m buoy --port buoy.tty --flash 4MB`."""

import argparse
import datetime
import os
import pty
import select
import signal
import sys
import time
import tty
from pathlib import Path

FIRMWARE = "2.3.0"


def boot(board, flash):
    """Print the boot log as the board would, a line at a time."""
    now = datetime.datetime.now().isoformat(timespec="seconds")
    for line in (
        f"channel buoy, firmware {FIRMWARE} (a stand-in)",
        f"chip SM-32, flash {flash}",
        f"clock {now}",
        "self test passed" if flash == "4MB" else "self test: flash is not what this firmware is for",
        "buoy ready",
    ):
        os.write(board, line.encode() + b"\r\n")
        time.sleep(0.05)


def main():
    options = argparse.ArgumentParser(prog="buoy")
    options.add_argument("--port", type=Path, required=True)
    options.add_argument("--flash", default="4MB")
    chosen = options.parse_args()
    board, line = pty.openpty()
    tty.setraw(line)
    chosen.port.unlink(missing_ok=True)
    chosen.port.symlink_to(os.ttyname(line))
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    try:
        time.sleep(0.3)  # until somebody listens
        boot(board, chosen.flash)
        while True:
            if not select.select([board], [], [], 0.5)[0]:
                continue
            for key in os.read(board, 64):
                if key == ord("s"):
                    os.write(board, b"lamp lit, battery 87 %\r\n")
                elif key == ord("r"):
                    boot(board, chosen.flash)
                elif key == ord("q"):
                    return
    finally:
        chosen.port.unlink(missing_ok=True)


main()
