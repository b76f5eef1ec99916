"""A web server that behaves as told, to see what is made of it: `server.py PORT [BEHAVIOUR ...]`."""

import os
import signal
import subprocess
import sys
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

PAGES = {
    "/": ("text/html", "<!doctype html><title>Harbour</title><h1>Harbour office</h1><p>Open from eight to five"),
    "/shell": ("text/html", "<!doctype html><title>Board</title><div id=app></div><script src=/app.js></script>"),
    "/app.js": ("text/javascript", "document.title = 'Board'"),
}


class Handler(BaseHTTPRequestHandler):
    first = True

    def do_GET(self):
        if "slow-first" in behaviours and Handler.first:
            time.sleep(2)
        Handler.first = False
        if "dies-when-asked" in behaviours:
            os._exit(9)
        path = "/shell" if self.path == "/" and "shell" in behaviours else self.path
        kind, text = PAGES.get(path, ("text/html", "<!doctype html><title>Not here</title>"))
        status = 200 if path in PAGES else 404
        if "falls-back" in behaviours and path == "/app.js":
            kind, text = PAGES["/shell"]  # as servers of single-page applications do for what they do not have
        if "broken" in behaviours:
            status = 500
        if "nothing-routed" in behaviours:
            status = 404
        body = text.encode()
        self.send_response(status)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_):
        pass


port, behaviours = int(sys.argv[1]), sys.argv[2:]
if "stubborn" in behaviours:
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, signal.SIG_IGN)
if "daemon" in behaviours:  # the command ends at once, the server lives on in a session of its own
    subprocess.Popen([sys.executable, __file__, str(port)], start_new_session=True)
    sys.exit(0)
for candidate in [port, *(range(port + 1, port + 30) if "moves" in behaviours else [])]:
    try:
        server = ThreadingHTTPServer(("0.0.0.0" if "open" in behaviours else "127.0.0.1", candidate), Handler)
        break
    except OSError:
        print(f"port {candidate} is taken")
else:
    sys.exit(1)
print(f"Harbour is ready: http://localhost:{server.server_port}/", flush=True)
server.serve_forever()
