"""A web server that behaves as told, to see what is made of it: `server.py PORT [BEHAVIOUR ...]`."""

import os
import signal
import subprocess
import sys
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

PAGES = {
    "/": ("text/html", "<!doctype html><title>Harbour</title><h1>Harbour office</h1><p>Open from eight to five"),
    "/shell": ("text/html", "<!doctype html><title>Board</title><div id=app></div><script src=/app.js></script>"),
    "/app.js": ("text/javascript", "document.title = 'Board'"),
}


DJANGO = (
    "<div id=summary><h1>KeyError at /</h1></div>You're seeing this error because you have <code>DEBUG = True</code>"
)
PAGES |= {
    "/boats.json": (
        "application/json",
        '{"boats": [{"name": "Spoonbill", "berth": 2}], "version": "1.4.0", "open": true}',
    ),
    "/debug": ("text/html", '<title>KeyError</title><div id="summary"></div>' + DJANGO),
    "/parts": (
        "text/html",
        "<title>Parts</title><link rel=stylesheet href=/p.css><img src=/boat.png><img src=/gone.png>",
    ),
    "/p.css": ("text/css", "@font-face { font-family: x; src: url('/x.woff2') }"),
    "/boat.png": ("image/png", "PNG"),
    "/x.woff2": ("text/html", "<!doctype html><title>no font"),
    "/long": ("text/html", "<title>Long</title><p>" + "a" * 60 + "b"),
    "/table": ("text/html", "<title>Table</title><table><tr><td>07:40<tr><td>08:15</table><p class=v>v1.4.0"),
}


if "draws" in sys.argv:
    PAGES["/app.js"] = ("text/javascript", "document.querySelector('#app').innerHTML = '<p>drawn by a script'")
    BROKEN = "<title>x</title><script src=/gone.js></script><script>throw new Error('the tide is out')</script>"
    PAGES["/broken.html"] = ("text/html", BROKEN + "<p>before<img src=http://elsewhere.invalid/x.png>")


if "modules" in sys.argv:  # as development servers do: the page names a module, and that imports the application
    PAGES["/shell"] = ("text/html", PAGES["/shell"][1].replace("<script", "<script type=module"))
    PAGES["/app.js"] = ("text/javascript", "import Board from '/board.vue'\nimport bare from 'bare'\n")
    PAGES["/board.vue"] = ("text/javascript", "export default 1")


class Handler(BaseHTTPRequestHandler):
    first = True
    tries = 0

    def do_POST(self):
        told = self.rfile.read(int(self.headers.get("Content-Length", 0))).decode()
        known = self.path == "/login" and "gull" in told
        self.send_response(200 if known else 403)
        self.send_header("Set-Cookie", "crew=gull; Path=/")
        self.send_header("Content-Type", "application/json")
        self.end_headers()
        self.wfile.write(b'{"session": {"token": "kelp-7"}}')

    def do_GET(self):
        if "slow-first" in behaviours and Handler.first:
            time.sleep(2)
        Handler.first = False
        if "dies-when-asked" in behaviours:
            os._exit(9)
        if self.path == "/me":
            right = "crew=gull" in self.headers.get("Cookie", "") and self.headers.get("X-Token") == "kelp-7"
            self.send_response(200 if right else 401)
            self.end_headers()
            self.wfile.write(b"Captain Gull" if right else b"who is there?")
            return
        if self.path == "/third":
            Handler.tries += 1
            self.send_response(200 if Handler.tries > 2 else 503)
            self.end_headers()
            self.wfile.write(b"at last")
            return
        if self.path in ("/file", "/moved"):
            self.send_response(200 if self.path == "/file" else 302)
            self.send_header("Location", "/table")
            self.end_headers()
            self.wfile.write(Path("page.txt").read_bytes())
            return
        path = "/shell" if self.path == "/" and "shell" in behaviours else self.path
        kind, text = PAGES.get(path, ("text/html", "<!doctype html><title>Not here</title>"))
        status = 200 if path in PAGES else 404
        if "falls-back" in behaviours and path == "/app.js":
            kind, text = PAGES["/shell"]  # as servers of single-page applications do for what they do not have
        if "broken" in behaviours or ("broken-import" in behaviours and path == "/board.vue"):
            status = 500
        if "debugs" in behaviours:
            status, text = 500, PAGES["/debug"][1]
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
if "lacks-redis" in behaviours:
    print("cache: connect ECONNREFUSED 127.0.0.1:6379, going on without", flush=True)
print("Harbour office 1.4.0, a warning of fog", flush=True)
print(f"Harbour is ready: http://localhost:{server.server_port}/", flush=True)
server.serve_forever()
