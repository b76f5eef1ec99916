"""Loading many parts side by side: what is kept, what is bounded, and a server that bundles anew meanwhile."""

from __future__ import annotations

import socket
import threading
import time
from collections import Counter
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import pytest

from dokimon.core.checks.assets import check_assets
from dokimon.core.checks.fetching import Request, Response, fetch
from dokimon.core.checks.loading import Loader
from dokimon.core.checks.module_graph import import_map, is_own_source
from dokimon.core.checks.page_parts import Part, parts_of_page, parts_of_styles
from dokimon.core.checks.upgrading import takes_websockets
from dokimon.core.planning.serving import is_server_command


class Server(ThreadingHTTPServer):
    """Counts the connections that it accepts, and what it was asked for."""

    daemon_threads = True
    protocol = "HTTP/1.1"

    def __init__(self) -> None:
        self.accepted = 0
        self.asked: Counter[str] = Counter()
        super().__init__(("127.0.0.1", 0), Handler)

    def get_request(self) -> tuple[socket.socket, object]:
        self.accepted += 1
        return super().get_request()


class Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    server: Server

    def do_GET(self) -> None:
        self.server.asked[self.path] += 1
        status, kind, body = 200, "text/javascript", b"export const tide = 1"
        if self.path == "/":
            kind, body = "text/html", b"<title>Tides</title><script type=module src=/main.js></script>"
        elif self.path == "/main.js":
            body = b"import '/deps/board.js'"
        elif self.path == "/deps/board.js" and self.server.asked[self.path] < 2:
            status, body = 504, b"Outdated Optimize Dep"
        elif self.path == "/slow":
            time.sleep(5)
        elif self.path == "/large":
            body = b"x" * 100_000
        elif self.path == "/moved":
            status = 302
        elif self.headers.get("Upgrade") == "websocket" and self.path == "/ws":
            status, body = 101, b""
        self.send_response(status)
        if status == 302:
            self.send_header("Location", "/main.js")
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_: object) -> None:
        pass


@pytest.fixture
def server() -> Iterator[Server]:
    server = Server()
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield server
    server.shutdown()
    server.server_close()


def origin_of(server: Server) -> str:
    return f"http://127.0.0.1:{server.server_address[1]}"


def test_connections_are_kept_and_the_order_is_that_of_the_questions(server: Server) -> None:
    paths = [f"/{number}.js" for number in range(60)]
    with Loader(origin_of(server), time.monotonic() + 20, 10**6) as loader:
        answers = loader.load([Request(path=path) for path in paths])
    assert [each.path for each in answers] == paths and {each.status for each in answers} == {200}
    assert server.accepted <= 8, "as many as work side by side"


def test_a_redirect_is_followed_and_what_does_not_come_is_told(server: Server) -> None:
    with Loader(origin_of(server), time.monotonic() + 20, 10**6) as loader:
        (moved,) = loader.load([Request(path="/moved")])
    assert (moved.status, moved.path) == (200, "/main.js")
    with Loader("http://127.0.0.1:9", time.monotonic() + 2, 10**6) as loader:
        (closed,) = loader.load([Request(path="/a.js")])
    assert closed.status is None and closed.fault


@pytest.mark.parametrize("seconds, most, path", [(0.3, 10**6, "/slow"), (20, 50_000, "/large")])
def test_time_and_size_are_bounded_in_all(server: Server, seconds: float, most: int, path: str) -> None:
    with Loader(origin_of(server), time.monotonic() + seconds, most) as loader:
        loader.load([Request(path=path)])
        (left,) = loader.load([Request(path="/late.js")])
    assert left.status is None and "not asked for" in (left.fault or "")
    assert server.asked["/late.js"] == 0 and server.asked[path]


def test_a_page_is_loaded_anew_where_its_packages_were_bundled_anew(server: Server) -> None:
    checks = check_assets(origin_of(server), fetch(origin_of(server), "/", seconds=5), 20)
    assert [each.verdict for each in checks] == ["passed"], checks
    assert server.asked["/"] == 2 and server.asked["/deps/board.js"] == 2


def test_a_websocket_is_known_by_its_handshake(server: Server) -> None:
    assert takes_websockets(origin_of(server), "/ws")
    assert not takes_websockets(origin_of(server), "/") and not takes_websockets("http://127.0.0.1:9", "/")


def page(markup: str) -> Response:
    return Response(path="/board/", status=200, type="text/html", body=markup.encode())


@pytest.mark.parametrize(
    "markup, found",
    [
        ("<img src=a.png srcset='b.png 1x, /c.png 2x'>", "image /board/a.png, image /board/b.png, image /c.png"),
        ("<video src=a.mp4 poster=b.png></video>", "media /board/a.mp4, image /board/b.png"),
        ("<picture><source srcset=a.webp></picture><audio><source src=b.ogg></audio>",
            "image /board/a.webp, media /board/b.ogg"),
        ("<iframe src=/tides></iframe><iframe src=about:blank></iframe>", "frame /tides"),
        ("<link rel=icon href=/f.ico><link rel=preload as=font href=/f.woff2>", "icon /f.ico, font /f.woff2"),
        ("<link rel=modulepreload href=/m.js><link rel=manifest href=/m.json>", "script /m.js"),
        ("<script type=text/template src=/no></script><script src=data:,x></script>", ""),
    ],
)  # fmt: skip
def test_the_parts_that_a_page_names(markup: str, found: str) -> None:
    parts, elsewhere = parts_of_page("http://127.0.0.1:80", page(markup))
    assert ", ".join(f"{each.kind} {each.path}" for each in parts) == found and not elsewhere


def test_what_styles_name_those_inside_modules_among_them() -> None:
    style = "@import 'a.css'; /* url(no.png) */ p { background: url( \"b.png\" ) } @font-face { src: url(c.woff2?v=1) }"
    css = Response(path="/s/x.css", status=200, type="text/css", body=style.encode())
    module = Response(path="/x.css", status=200, body=b'const __vite__css = "p { background: url(\\"d.png\\") }"')
    parts = [(Part("style", "", "/s/x.css"), css), (Part("module", "", "/x.css", True), module)]
    found = parts_of_styles("http://127.0.0.1:80", parts)
    assert [f"{each.kind} {each.path}" for each in found] == [
        "style /s/a.css", "image /s/b.png", "font /s/c.woff2?v=1", "image /d.png"
    ]  # fmt: skip


def test_an_import_map_and_whose_a_module_is() -> None:
    assert import_map('<script type=importmap>{"imports": {"tide": "/t.js", "no": 1}}</script>') == {"tide": "/t.js"}
    assert import_map("<script type=importmap>{</script>") == {}
    assert is_own_source("/src/board.vue") and not is_own_source("/node_modules/.vite/deps/vue.js?v=1")


@pytest.mark.parametrize(
    "command, serves",
    [
        ("vite", True), ("vite --port 3000", True), ("vite build --watch", False), ("next dev", True), ("tsc -w", False),
        ("node api.js", True), ("node seed.js", False), ("nodemon --watch src api.js", True), ("uvicorn app:app", True),
        ("tailwindcss -i a.css -o b.css --watch", False), ("python -m http.server 80", True), ("php -S localhost:1", True),
    ],
)  # fmt: skip
def test_commands_that_serve(tmp_path: Path, command: str, serves: bool) -> None:
    (tmp_path / "api.js").write_text("require('express')().listen(3000)", encoding="utf-8")
    (tmp_path / "seed.js").write_text("console.log('seeded')", encoding="utf-8")
    assert is_server_command(tmp_path, command) == serves
