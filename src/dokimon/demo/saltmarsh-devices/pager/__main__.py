"""The crew's pager, and a stand-in for the emulator that it runs on.

`python -m pager emulator` plays the server that lists devices; `list` asks it, with the real adb where that is installed;
`show --on DEVICE` shows a page.
"""

import argparse
import contextlib
import os
import shutil
import signal
import socket
import sys
import threading
import time

PORT = int(os.environ.get("PAGER_PORT", "5939"))
DEVICE = "emulator-5939"
ATTACHED_AFTER = 3.0


def framed(text):
    """Return a payload as the server sends one: its length in four hexadecimal digits, then itself."""
    return b"%04x" % len(text) + text


def answer(link, began):
    """Answer one request: its length in four hexadecimal digits, then a word such as host:devices."""
    with link:
        head = link.recv(4)
        if len(head) < 4:
            return
        request = link.recv(int(head, 16)).decode()
        attached = time.monotonic() - began >= ATTACHED_AFTER
        if request == "host:version":
            link.sendall(b"OKAY" + framed(b"0029"))  # the version that clients 1.0.41 expect
        elif request.startswith("host:devices"):
            link.sendall(b"OKAY" + framed(f"{DEVICE}\t{'device' if attached else 'offline'}\n".encode()))
        else:
            link.sendall(b"FAIL" + framed(b"this stand-in lists devices, and no more"))


def emulator():
    """Serve until somebody stops it."""
    began = time.monotonic()
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    with socket.create_server(("127.0.0.1", PORT)) as server:
        print(f"a stand-in for an emulator, on port {PORT}; it attaches after {ATTACHED_AFTER:g} s", flush=True)
        while True:
            link, _ = server.accept()
            threading.Thread(target=answer, args=(link, began), daemon=True).start()


def list_devices():
    """Show the devices that are attached."""
    try:
        link = socket.create_connection(("127.0.0.1", PORT), timeout=3)
    except OSError:
        print("no emulator is running")
        return
    real = shutil.which("adb")
    if real:
        link.close()
        os.execv(real, [real, "-P", str(PORT), "devices"])
    with link:
        link.sendall(framed(b"host:devices"))
        head = link.recv(8)
        print(link.recv(int(head[4:], 16)).decode(), end="")


def main():
    options = argparse.ArgumentParser(prog="pager")
    options.add_argument("do", choices=["emulator", "list", "show"])
    options.add_argument("--on", default=DEVICE)
    chosen = options.parse_args()
    if chosen.do == "emulator":
        emulator()
    elif chosen.do == "list":
        list_devices()
    else:
        print(f"on {chosen.on}: next boat 07:40 to Heron Quay")


with contextlib.suppress(KeyboardInterrupt):
    main()
