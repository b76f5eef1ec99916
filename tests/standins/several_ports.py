"""Stands in for a server with more ports than one: `python several_ports.py PLAN`, PLAN in JSON.

Each port of the plan: `port` (0 for one by chance), `after` seconds, `says` (its address is printed so), and what it
answers: `status`, `type`, `body`, `headers`, `paths` (the same by path), or `counts` in a file what it is sent.
"""

import json
import sys
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from socketserver import BaseRequestHandler, TCPServer


def handler(plan: dict) -> type[BaseHTTPRequestHandler]:
    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            what = {**plan, **plan.get("paths", {}).get(self.path, {})}
            if self.headers.get("Upgrade") == "websocket" and what.get("upgrades"):
                what = {"status": 101}
            body = what.get("body", "").encode()
            self.send_response(what.get("status", 200))
            self.send_header("Content-Type", what.get("type", "text/html"))
            for name, value in what.get("headers", {}).items():
                self.send_header(name, value)
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *_: object) -> None:
            pass

    return Handler


class Server(ThreadingHTTPServer):
    def server_bind(self) -> None:  # without asking for the name of the host
        TCPServer.server_bind(self)
        self.server_name, self.server_port = "127.0.0.1", self.server_address[1]


def serve(plan: dict) -> None:
    time.sleep(plan.get("after", 0))
    if plan.get("counts"):

        class Counts(BaseRequestHandler):
            def handle(self) -> None:
                with Path(plan["counts"]).open("a") as file:
                    file.write("connected\n")

        server = TCPServer(("127.0.0.1", plan["port"]), Counts)
    else:
        server = Server(("127.0.0.1", plan["port"]), handler(plan))
    if plan.get("says"):
        print(plan["says"].replace("PORT", str(server.server_address[1])), flush=True)
    server.serve_forever()


threads = [threading.Thread(target=serve, args=(each,)) for each in json.loads(sys.argv[1])]
for each in threads:
    each.start()
