"""Serve the board: `python -m board --port 4173`. When the port is taken, the next free one is used.

The variable TIDE_SERVICE says where the tide service is.
"""

import argparse
import functools
import json
import os
import urllib.request
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

VERSION = "1.4.0"
TIDE_SERVICE = os.environ["TIDE_SERVICE"]
SITE = Path(__file__).with_name("site")

DEPARTURES = [
    {"time": "07:40", "to": "Heron Quay", "boat": "Spoonbill", "berth": 2},
    {"time": "08:15", "to": "Gannet Point", "boat": "Little Tern", "berth": 1},
    {"time": "09:05", "to": "Samphire Island", "boat": "Oystercatcher", "berth": 2},
    {"time": "10:30", "to": "Heron Quay", "boat": "Spoonbill", "berth": 3},
]


class Board(SimpleHTTPRequestHandler):
    """Serves the files in `site`, the departures, and the tide from the tide service."""

    def do_GET(self):
        if self.path == "/departures.json":
            self.send_json(DEPARTURES)
        elif self.path == "/tide.json":
            with urllib.request.urlopen(f"{TIDE_SERVICE}/next", timeout=5) as answer:
                self.send_json(json.load(answer))
        else:
            super().do_GET()

    def send_json(self, value):
        body = json.dumps(value).encode()
        self.send_response(200)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)


def open_server(port):
    """Return a server on `port` or, when that is taken, on one of the ten after it."""
    for candidate in range(port, port + 11):
        try:
            return ThreadingHTTPServer(("127.0.0.1", candidate), functools.partial(Board, directory=SITE))
        except OSError:
            print(f"port {candidate} is taken")
    raise SystemExit("no port is free")


def main():
    options = argparse.ArgumentParser(prog="board")
    options.add_argument("--port", type=int, default=4173)
    server = open_server(options.parse_args().port)
    print(f"The board {VERSION} is up: http://127.0.0.1:{server.server_port}/", flush=True)
    try:
        server.serve_forever()
    except KeyboardInterrupt:
        print("The board is down.")


main()
