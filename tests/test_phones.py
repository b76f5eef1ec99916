"""What a phone would load of a React Native project: the manifest of each platform, and its bundle."""

from __future__ import annotations

import json
import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import pytest

from dokimon.core.checks.phones import Phones
from dokimon.core.planning.phones import Served, serves_phones
from test_checks import scene

FAULT = {"type": "TransformError", "filename": "lib/tide.js", "lineNumber": 3, "message": "Unexpected token"}


@pytest.fixture
def origin() -> Iterator[str]:
    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            platform = self.headers.get("expo-platform")
            bundle = {
                "launchAsset": {"url": f"http://localhost:{self.server.server_address[1]}/index.bundle?{platform}"}
            }
            status, told = 200, json.dumps(bundle if platform == "ios" else {"errors": ["no such platform"]})
            if self.path.startswith("/index.bundle"):
                status, told = (500, json.dumps(FAULT)) if "android" in self.path else (200, "var bundle")
            self.send_response(status)
            self.send_header("Content-Length", str(len(told)))
            self.end_headers()
            self.wfile.write(told.encode())

        def log_message(self, *_: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    server.daemon_threads = True
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_address[1]}"
    server.shutdown()
    server.server_close()


@pytest.mark.parametrize(
    "platforms, has_manifest, verdicts, says",
    [
        (("ios",), True, "passed", "10 bytes"),
        (("ios", "android"), True, "passed failed", "no manifest that names a bundle"),
        (("android", "ios"), False, "failed", "status 500: TransformError lib/tide.js:3 Unexpected token"),
    ],
)
def test_each_bundle_is_asked_for_once(
    origin: str, platforms: tuple[str, ...], has_manifest: bool, verdicts: str, says: str
) -> None:
    checks = Phones(platforms=platforms, has_manifest=has_manifest).look(scene(Path("/"), origin=origin))
    assert " ".join(check.verdict for check in checks) == verdicts and says in checks[-1].seen, checks


@pytest.mark.parametrize(
    "script, app, served",
    [
        ("expo start", {"expo": {"platforms": ["ios", "web"]}}, Served(("ios",), True)),
        ("expo start", {}, Served(("ios", "android"), True)),
        ("react-native start", {"name": "tides"}, Served(("ios", "android"), False)),
        ("expo start --web", {}, None),
        ("vite", {}, None),
    ],
)
def test_what_serves_phones(tmp_path: Path, script: str, app: object, served: Served | None) -> None:
    (tmp_path / "package.json").write_text(json.dumps({"scripts": {"start": script}}), encoding="utf-8")
    (tmp_path / "app.json").write_text(json.dumps(app), encoding="utf-8")
    assert serves_phones(tmp_path, ("npm", "run", "start")) == served
