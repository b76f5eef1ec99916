"""Serve the board: `python -m board --port 4173`. When the port is taken, the next free one is used."""

import argparse
import functools
import json
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

SITE = Path(__file__).with_name("site")

DEPARTURES = [
    {"time": "07:40", "to": "Heron Quay", "boat": "Spoonbill", "berth": 2},
    {"time": "08:15", "to": "Gannet Point", "boat": "Little Tern", "berth": 1},
    {"time": "09:05", "to": "Samphire Island", "boat": "Oystercatcher", "berth": 2},
    {"time": "10:30", "to": "Heron Quay", "boat": "Spoonbill", "berth": 3},
]


class Board(SimpleHTTPRequestHandler):
    """Serves the files in `site`, and the departures as JSON."""

    def do_GET(self):
        if self.path == "/departures.json":
            body = json.dumps(DEPARTURES).encode()
            self.send_response(200)
            self.send_header("Content-Type", "application/json")
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)
        else:
            super().do_GET()


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
    print(f"The board is up: http://127.0.0.1:{server.server_port}/", flush=True)
    try:
        server.serve_forever()
    except KeyboardInterrupt:
        print("The board is down.")


main()
