"""Tell the next tide as JSON: `python -m tide_service --port 4180`."""

import argparse
import json
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

NEXT = {"place": "Saltmarsh Pier", "high_water": "06:12", "metres": 4.1}


class Tides(BaseHTTPRequestHandler):
    """Answers /next with the next high water."""

    def do_GET(self):
        known = self.path == "/next"
        body = json.dumps(NEXT if known else {"error": "there is /next"}).encode()
        self.send_response(200 if known else 404)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_):
        pass


def main():
    options = argparse.ArgumentParser(prog="tide_service")
    options.add_argument("--port", type=int, default=4180)
    server = ThreadingHTTPServer(("127.0.0.1", options.parse_args().port), Tides)
    print(f"The tide service is up: http://127.0.0.1:{server.server_port}/next", flush=True)
    try:
        server.serve_forever()
    except KeyboardInterrupt:
        print("The tide service is down.")


main()
