"""Checks on answers that are hard to come by: a server in the test's own process gives them."""

from __future__ import annotations

import gzip
import os
import shutil
import ssl
import subprocess
import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest

from dokimon.core.checks import http
from dokimon.core.checks.carrying_out import PlannedCheck, _batches, carry_out_checks
from dokimon.core.checks.certificate import check_certificate
from dokimon.core.checks.command import Command
from dokimon.core.checks.console import Console
from dokimon.core.checks.context import CheckContext, Cookies
from dokimon.core.checks.error_pages import error_pages, recognised
from dokimon.core.checks.fact import FactCheck, SameAs
from dokimon.core.checks.fetching import LARGEST_BODY, fetch, own_path
from dokimon.core.checks.html import read
from dokimon.core.checks.http import Http
from dokimon.core.checks.measuring import Measure, judge_value
from dokimon.core.checks.scratch import scratch
from dokimon.core.checks.spec import CheckSpec, Pattern
from dokimon.core.checks.value_places import Place, PlaceFault, pointed
from dokimon.core.machine.asking import Asker
from dokimon.core.processes.output import Output
from dokimon.core.report.model import Check

ANSWERS: dict[str, tuple[int, dict[str, str], bytes]] = {
    "/page": (200, {"Content-Type": "text/html"}, b"<title>a</title><script src=/s.js></script><script "
        b"src=/s.js></script><link rel=stylesheet href=t.css><link rel='alternate stylesheet' href=no.css><script "
            b"src='https://elsewhere.invalid/x.js'></script><script type='text/template' src=/no></script><script "
                b"src='data:,x'></script>"),
    "/base": (200, {"Content-Type": "text/html"}, b"<base href=/deep/><title>a</title><script src=s.js></script>"),
    "/deep/s.js": (200, {"Content-Type": "application/javascript; charset=utf-8"}, b"1"),
    "/s.js": (200, {"Content-Type": "text/javascript"}, b"1"),
    "/t.css": (200, {"Content-Type": "text/css"}, b"p {}"),
    "/wrong": (200, {"Content-Type": "text/html"}, b"<title>a</title><script type=module src=/plain.js></script><script "
        b"src=/gone.js></script><link rel=stylesheet href=/s.js><script src=/plain.js?classic></script>"),
    "/plain.js?classic": (200, {"Content-Type": "text/plain"}, b"1"),
    "/strict": (200, {"Content-Type": "text/html"}, b"<title>a</title><script src=/strict.js></script>"),
    "/strict.js": (200, {"Content-Type": "text/plain", "X-Content-Type-Options": "nosniff"}, b"1"),
    "/gaps": (200, {"Content-Type": "text/html"}, b"<title>a</title><link rel=icon href=/gone.ico><img src=/gone.png>"
        b"<link rel=stylesheet href=/gaps.css>"),
    "/gaps.css": (200, {"Content-Type": "text/css"}, b"/* url(no.png) */ @import 't.css'; p { src: url('gone.woff2') }"),
    "/plain.js": (200, {"Content-Type": "text/plain"}, b"1"),
    "/empty": (200, {"Content-Type": "text/html"}, b""),
    "/json": (200, {"Content-Type": "application/json"}, b'{"to": "Heron Quay"}'),
    "/moved": (302, {"Location": "/page"}, b""),
    "/local": (302, {"Location": "http://localhost:PORT/json"}, b""),
    "/away": (302, {"Location": "https://elsewhere.invalid/"}, b""),
    "/loop": (302, {"Location": "/loop"}, b""),
    "/signin": (401, {}, b"who is there?"),
    "/escape": (200, {"Content-Type": "text/html"}, "<title>\x1b[31m[bold]red[/]\u202e</title>x".encode()),
    "/bomb": (200, {"Content-Type": "text/plain", "Content-Encoding": "gzip"}, gzip.compress(b"0" * 50_000_000, 1)),
    "/lies": (200, {"Content-Encoding": "gzip"}, b"not packed"),
    "/short": (200, {"Content-Length": "40"}, b"four"),
    "/many": (
        200, {"Content-Type": "text/html"},
        b"".join(b"<script src=/%d.js></script>" % number for number in range(10_000)),
    ),
    "/latin": (200, {"Content-Type": "text/html"}, b"<title>caf\xe9</title><p>x"),
    "/nested": (200, {"Content-Type": "text/html"}, b"<div>" * 3000 + b"deep"),
}  # fmt: skip


class Handler(BaseHTTPRequestHandler):
    def do_GET(self) -> None:
        if self.path == "/endless":
            self.send_response(200)
            self.end_headers()
            try:
                while True:
                    self.wfile.write(b"x" * 65536)
            except OSError:
                return
        if self.path == "/drip":
            self.send_response(200)
            self.end_headers()
            for _ in range(100):
                try:
                    self.wfile.write(b"x")
                    self.wfile.flush()
                except OSError:
                    return
                threading.Event().wait(0.05)
            return
        if self.path == "/half":
            self.wfile.write(b"HTTP/1.1 200 OK\r\nContent-Le")
            return
        status, headers, body = ANSWERS.get(self.path, (404, {}, b"no"))
        self.send_response(status)
        for name, value in headers.items():
            self.send_header(name, value.replace("PORT", str(self.server.server_address[1])))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_: object) -> None:
        pass


@pytest.fixture(scope="module")
def origin() -> Iterator[str]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_port}"
    server.shutdown()
    server.server_close()


def scene(root: Path, **more: Any) -> CheckContext:
    """What a check may look at, in a test: a run that is called `quay`."""
    printed: str = more.pop("printed", "")
    output = Output()
    if printed:
        output._take(printed.encode(), False)
    return CheckContext(
        name="quay", root=root, environment=dict(os.environ), halt=threading.Event(),
        output=output, facts=more.pop("facts", {}), evidence=lambda name: None, listening=lambda: more.get("at", ()),
        processes=list, asker=Asker(dict(os.environ), root), cookies=Cookies(),
        **{key: value for key, value in more.items() if key != "at"},
    )  # fmt: skip


def looked(*wanted: CheckSpec, root: Path = Path("/"), **more: Any) -> tuple[Check, ...]:
    """Carry out checks one after the other as a run's are, and return what was seen."""
    seen = carry_out_checks([PlannedCheck(each) for each in wanted], scene(root, **more))
    assert seen is not None
    return seen


@pytest.mark.parametrize(
    "path, verdicts, says",
    [
        ("/page", "passed passed passed", "2 of 2 load (1 script, 1 style); 1 are on other hosts and were not fetched"),
        ("/base", "passed passed passed", "1 of 1 load"),
        ("/wrong", "passed passed failed failed failed failed",
            "served as text/plain, which browsers refuse as a script"),
        ("/wrong", "passed passed failed failed failed failed",
            "served as text/javascript, which browsers refuse as a style"),
        ("/wrong", "passed passed failed failed failed failed", "status 404"),
        ("/strict", "passed passed failed failed", "served as text/plain, which browsers refuse as a script"),
        ("/gaps", "passed passed unsure unsure unsure", "1 icon not there"),
        ("/empty", "unsure unsure", "it answers, but with nothing"),
        ("/json", "passed", "200, application/json, 20 bytes"),
        ("/moved", "passed passed passed", "at /page"),
        ("/local", "passed", "at /json"),
        ("/away", "unsure", "redirects to https://elsewhere.invalid/"),
        ("/loop", "failed", "more than 10 redirects"),
        ("/signin", "unsure", "asks to sign in"),
        ("/none", "failed", "nothing is routed here"),
        ("/endless", "passed", "more than 8388608 bytes"),
        ("/half", "failed", "disconnected"),
        ("/escape", "passed passed", "“[bold]red[/]\N{REPLACEMENT CHARACTER}”"),
        ("/latin", "passed passed", "“café”"),
        ("/nested", "passed passed", "no title, 1 word"),
    ],
)  # fmt: skip
def test_pages_and_how_they_are_graded(origin: str, path: str, verdicts: str, says: str) -> None:
    checks = looked(Http(get=path), origin=origin)
    assert [check.verdict for check in checks] == verdicts.split(), checks
    assert any(says in check.seen for check in checks), checks
    assert not any("\x1b" in check.seen for check in checks)


def test_time_and_size_are_bounded(origin: str, monkeypatch: pytest.MonkeyPatch) -> None:
    assert len(fetch(origin, "/endless", seconds=20).body) == LARGEST_BODY
    slow = fetch(origin, "/drip", seconds=0.4)
    assert not slow.complete and slow.seconds < 3
    monkeypatch.setattr(http, "PAGE_SECONDS", 0.2)
    closed = looked(Http(get="/"), origin="http://127.0.0.1:9")
    assert closed[0].verdict == "failed" and closed[0].expected == "an answer"


@pytest.mark.parametrize(
    "address, path",
    [
        ("x.js", "/a/x.js"), ("/x.js?v=1", "/x.js?v=1"), ("http://localhost:80/y", None),
            ("http://localhost:5000/y", "/y"),
        ("//127.0.0.1:5000/y", "/y"), ("http://[::1]:5000", "/"), ("https://localhost:5000/", None),
            ("http://example.invalid:5000/", None),
        ("http://[broken/", None), ("http://localhost:99999/", None), ("../../x", "/x"),
    ],
)  # fmt: skip
def test_what_counts_as_the_runs_own(address: str, path: str | None) -> None:
    assert own_path(address, "http://127.0.0.1:5000", "/a/b") == path


@pytest.mark.parametrize(
    "value, wanted, verdict",
    [
        ("1.4.0", {"version": ">=1.4, <2"}, "passed"), ("board v1.4.0-rc.1", {"version": ">=1.4"}, "failed"),
            ("none", {"version": ">=1"}, "failed"),
        (3, {"number": ">= 3, < 10"}, "passed"), ("12", {"number": ">= 3, < 10"}, "failed"),
            ("many", {"number": "> 1"}, "failed"), (2.5, {"number": "!= 2.5"}, "failed"),
        ("4MB", {"size": "= 4 MB"}, "passed"), ("4096 kB", {"size": "= 4 MB"}, "failed"),
            (1024, {"size": "< 2 KiB"}, "passed"), ("large", {"size": "> 1 B"}, "failed"),
        (True, {"is_": True}, "passed"), ("true", {"is_": True}, "passed"), (1, {"is_": "1"}, "failed"),
            (None, {"is_": None}, "passed"),
        ("abc", {"pattern": "^b"}, "failed"), ("abc", {"pattern": "b", "without": "z"}, "passed"),
            ("7-modified", {"without": "modified"}, "failed"),
        ("2001-01-01T00:00:00", {"clock": "60s"}, "failed"), ("yesterday", {"clock": "60s"}, "failed"),
            (["a"], {}, "passed"),
    ],
)  # fmt: skip
def test_values_and_measures(value: Any, wanted: dict[str, Any], verdict: str) -> None:
    assert judge_value(value, Measure(**wanted)).verdict == verdict


@pytest.mark.parametrize(
    "pointer, found",
    [("", {"a/b": [1, {"m~n": "x"}]}), ("/a~1b/0", 1), ("/a~1b/1/m~0n", "x"), ("/a~1b/2", None), ("/a~1b/-", None),
        ("/c", None), ("/a~1b/0/x", None), ("a", None)],
)  # fmt: skip
def test_pointers_follow_rfc_6901(pointer: str, found: Any) -> None:
    data = {"a/b": [1, {"m~n": "x"}]}
    if found is None:
        with pytest.raises(PlaceFault):
            pointed(data, pointer)
    else:
        assert pointed(data, pointer) == found


def test_each_error_page_is_recognised_and_nothing_else_is() -> None:
    for page in error_pages():
        for sample in page.samples:
            found = recognised(sample, read(sample))
            assert page.samples and found and found.name == page.name, (page.name, sample, found)
        for other in page.others:
            assert recognised(other, read(other)) is None, (page.name, other)
    assert recognised("<title>Tides</title><p>502 boats, Fatal error: none, DEBUG = True", read("")) is None


def test_a_pattern_that_backtracks_for_ever_is_given_up(tmp_path: Path) -> None:
    (found,) = looked(Console(prints=Pattern(r"(?:a|aa)+c\d")), printed="a" * 60 + "b", root=tmp_path, ended=(0, 1.0))
    assert found.verdict == "unsure" and "simplify the pattern" in found.seen


def test_what_is_packed_is_unpacked_no_further_than_the_largest_size(origin: str) -> None:
    bomb = fetch(origin, "/bomb", seconds=20)
    assert len(bomb.body) == LARGEST_BODY and not bomb.complete
    (short,) = [check for check in looked(Http(get="/short"), origin=origin) if check.name == "GET /short"]
    assert short.verdict == "failed" and "4 bytes of it" in short.seen
    lies = fetch(origin, "/lies", seconds=5)
    assert lies.odd and "is not" in lies.odd


def test_many_parts_are_asked_for_in_bounds(origin: str) -> None:
    (seen,) = [check.seen for check in looked(Http(get="/many"), origin=origin) if check.name == "parts"]
    assert "only the first 200 of 10000 were asked for" in seen and "the first 10 that do not are listed" in seen


@pytest.mark.skipif(shutil.which("openssl") is None, reason="needs openssl to make certificates")
@pytest.mark.parametrize(
    "days, verdict, says", [(30, "passed", "issued by Quay for localhost"), (-1, "failed", "it has expired")]
)
def test_certificates(tmp_path: Path, days: int, verdict: str, says: str) -> None:
    key, held = tmp_path / "key.pem", tmp_path / "held.pem"
    asked = ["-keyout", key, "-out", held, "-subj", "/CN=Quay", "-addext", "subjectAltName=DNS:localhost"]
    made = subprocess.run(
        ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", str(days), *asked],
        capture_output=True,
        check=False,
    )
    if made.returncode:
        pytest.skip("this openssl makes no certificate that has expired")
    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(held, key)
    server.socket = context.wrap_socket(server.socket, server_side=True)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    (found,) = check_certificate(f"https://127.0.0.1:{server.server_port}")
    server.shutdown()
    server.server_close()
    assert found.verdict == verdict and says in found.seen and "does not trust it" in found.seen
    assert check_certificate("http://127.0.0.1:1") == []


def test_what_only_looks_is_looked_at_at_once_and_what_uses_a_value_waits() -> None:
    wanted = [
        Http(get="/a"), Http(get="/b"), Http(get="/c", take={"token": Place(at="/x")}), Http(get="/d/{token}"),
        Command(command="true"), Http(get="/e"), FactCheck(fact="v", get="/"),
            FactCheck(fact="w", get="/", same_as=SameAs(fact="v")),
        Http(get="/f", needed=True), Http(get="/g"),
    ]  # fmt: skip
    assert [len(batch) for batch in _batches([PlannedCheck(each) for each in wanted])] == [2, 1, 1, 1, 2, 1, 1, 1]


def test_a_mistake_of_ones_own_in_a_check_loses_no_other(origin: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(FactCheck, "look", lambda spec, context: 1 / 0)
    wrong, right = looked(FactCheck(fact="depth", get="/"), Http(get="/json"), origin=origin)
    assert (wrong.verdict, right.verdict) == ("unsure", "passed") and "ZeroDivisionError" in wrong.seen


def test_what_a_browser_wrote_is_removed_also_after_a_kill(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("tempfile.tempdir", str(tmp_path))
    dead = subprocess.Popen(["true"])
    dead.wait()
    for owner in (dead.pid, os.getppid()):
        (tmp_path / f"dokimon-browser-{owner}-x" / "profile").mkdir(parents=True)
    with scratch() as folder:
        assert folder.parent == tmp_path and len([*tmp_path.iterdir()]) == 2
    assert [path.name for path in tmp_path.iterdir()] == [f"dokimon-browser-{os.getppid()}-x"]
