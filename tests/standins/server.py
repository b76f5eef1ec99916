"""A web server that behaves as told, to see what is made of it: `server.py PORT [BEHAVIOUR ...]`.

Hundreds of tests start it: `http.server` would take twice as long to load as all the rest takes together.
"""

import os
import socket
import sys
import threading
import time

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
    PAGES["/app.js"] = ("text/javascript", "import Board from '/board.vue'\n")
    PAGES["/board.vue"] = ("text/javascript", "export default 1")


seen = {"/": 0, "/third": 0}


def answer(method, path, headers, body):
    """Return the status, further lines and the body for a request."""
    if method == "POST":
        status = 200 if path == "/login" and "gull" in body else 403
        more = ["Set-Cookie: crew=gull; Path=/", "Content-Type: application/json"]
        return status, more, '{"session": {"token": "kelp-7"}}'
    if "slow-first" in behaviours and not seen["/"]:
        time.sleep(2)
    seen["/"] += 1
    if "dies-when-asked" in behaviours:
        os._exit(9)
    if path == "/me":
        right = "crew=gull" in headers.get("cookie", "") and headers.get("x-token") == "kelp-7"
        return (200, [], "Captain Gull") if right else (401, [], "who is there?")
    if path == "/third":
        seen["/third"] += 1
        return 200 if seen["/third"] > 2 else 503, [], "at last"
    if path in ("/file", "/moved"):
        with open("page.txt") as file:
            return 200 if path == "/file" else 302, ["Location: /table"], file.read()
    path = "/shell" if path == "/" and "shell" in behaviours else path
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
    return status, [f"Content-Type: {kind}"], text


def serve_one(link):
    """Read a request and answer it; HTTP/1.0, so that each has a connection of its own."""
    with link, link.makefile("rb") as lines:
        request, headers = lines.readline().decode().split(), {}
        if not request:  # somebody only looked whether anyone is here
            return
        if len(request) != 3:  # it is no HTTP
            link.sendall(b"HTTP/1.0 400 Told\r\n\r\n")
            return
        while line := lines.readline().decode().strip():
            name, _, value = line.partition(":")
            headers[name.lower()] = value.strip()
        body = lines.read(int(headers.get("content-length", 0))).decode()
        status, more, text = answer(*request[:2], headers, body)
        more = ["Server: Tidehouse/1.4", *more, f"Content-Length: {len(text.encode())}"]
        link.sendall("\r\n".join([f"HTTP/1.0 {status} Told", *more, "", text]).encode())


port, behaviours = int(sys.argv[1]), sys.argv[2:]
if "stubborn" in behaviours:
    import signal

    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, signal.SIG_IGN)
if "daemon" in behaviours:  # the command ends at once, the server lives on in a session of its own
    import subprocess

    subprocess.Popen([sys.executable, __file__, str(port)], start_new_session=True)
    sys.exit(0)
for candidate in [port, *(range(port + 1, port + 30) if "moves" in behaviours else [])]:
    try:
        server = socket.create_server(("0.0.0.0" if "open" in behaviours else "127.0.0.1", candidate))
        break
    except OSError:
        print(f"port {candidate} is taken")
else:
    sys.exit(1)
if "lacks-redis" in behaviours:
    print("cache: connect ECONNREFUSED 127.0.0.1:6379, going on without", flush=True)
print("Harbour office 1.4.0, a warning of fog", flush=True)
print(f"Harbour is ready: http://localhost:{server.getsockname()[1]}/", flush=True)
while True:
    threading.Thread(target=serve_one, args=server.accept()[:1], daemon=True).start()
