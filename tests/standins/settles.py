"""Stands in for what does not speak HTTP: `python settles.py KIND [PORT]`."""

import socket
import sys
import time

kind = sys.argv[1]
port = int(sys.argv[2]) if sys.argv[2:] and sys.argv[2].isdecimal() else 0

if kind == "worker":
    print("tide worker started", flush=True)
    print("waiting for jobs", flush=True)
    time.sleep(600)
elif kind == "crashed":
    print(
        "Traceback (most recent call last):\n  File \"x.py\", line 1\nImportError: cannot import name 'tides' from 'board'"
    )
    print("[nodemon] app crashed - waiting for file changes before starting...", flush=True)
    time.sleep(600)
elif kind == "gives-up":
    print("Building...\nBuild failed: board.jsx:2:23 unexpected end\nwill build again", flush=True)
    time.sleep(600)
elif kind == "asks":
    sys.stdout.write("Admin user name: ")
    sys.stdout.flush()
    time.sleep(600)
elif kind == "dies":
    print("waiting for jobs", flush=True)
    time.sleep(3.5)
    sys.exit("lost the connection")
elif kind == "curses":
    if not sys.stdout.isatty():
        sys.exit("Error opening terminal: unknown.")
    print("high water at 07:40")
elif kind == "ends-at-once":
    print("tide worker started", flush=True)
elif kind == "draws":
    print("\x1b[?1049h\x1b[1;1HHeron Quay", flush=True)
    time.sleep(600)
elif kind == "udp":
    link = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    link.bind(("127.0.0.1", port))
    time.sleep(600)
elif kind in ("greets", "hangs-up", "silent"):
    server = socket.create_server(("127.0.0.1", port))
    while True:
        link, _ = server.accept()
        if kind == "greets":
            link.sendall(b"220 saltmarsh ESMTP\r\n")
            link.recv(1000)
        if kind == "silent":
            while link.recv(1000):
                pass
        link.close()
elif kind == "deaf":
    server = socket.create_server(("127.0.0.1", port))
    time.sleep(600)
elif kind == "usage":
    import argparse

    parser = argparse.ArgumentParser(prog="tides")
    parser.add_argument("day")
    parser.add_argument("--version", action="version", version="tides 1.4.0")
    parser.parse_args(sys.argv[2:])
elif kind == "help":
    print("Usage: tides DAY\n\nCommands:\n  show")
elif kind == "wants-a-file":
    helps = "--help" in sys.argv and "fails" not in sys.argv
    says = "[CRITICAL] the chart is torn" if "fatal" in sys.argv else "tides: no chart here"
    print("tides [CHART]" if helps else says)
    sys.exit(0 if helps else 1)
elif kind == "raises":
    raise SystemExit(0) if "--help" in sys.argv else OverflowError("the tide is too high")
