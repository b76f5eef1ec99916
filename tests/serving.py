"""A server for one test: it answers what a function says."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

Answers = Callable[[str, Mapping[str, str]], tuple[int, str, str]]
"""From the path and the headers of a request to the status, the media type and the body."""


@contextmanager
def served(answers: Answers) -> Iterator[str]:
    """Serve on loopback for the block; give the origin."""

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            status, media_type, text = answers(self.path, dict(self.headers.items()))
            body = text.encode()
            self.send_response(status)
            self.send_header("Content-Type", media_type)
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *_: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    server.daemon_threads = True
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.server_address[1]}"
    finally:
        server.shutdown()
        server.server_close()
