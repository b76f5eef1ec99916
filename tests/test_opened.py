"""A page that only its scripts fill: what is made of what the browser saw, and the browser itself where one is here."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import msgspec
import pytest

from dokimon.core.checks.devtools import _Seen, is_loading
from dokimon.core.checks.html import read
from dokimon.core.checks.opened import NO_BROWSER, check_opened, is_shell, judged
from dokimon.core.checks.rendered import Rendered
from dokimon.core.checks.root_page import RootPage
from serving import served
from test_checks import scene


def seen(**more: Any) -> dict[str, Any]:
    plain = {
        "words": "Tides today",
        "drawn": 0,
        "errors": [],
        "failed": [],
        "elsewhere": [],
        "overlays": [],
        "seconds": 1.0,
    }
    return {**plain, **more}


@pytest.mark.parametrize(
    "page, verdict, says",
    [
        (seen(), "passed", "2 words after its scripts ran"),
        (seen(words="Board\nNameError: tide\nTraceback:\nFile x"), "failed", "a stack in the page: “Board NameError: tide"),
        (seen(words="", drawn=1), "passed", "0 words"),
        (seen(words="", drawn=0), "failed", "a blank page"),
        (seen(words="", errors=["Error: no tides\n    at board.js:3"]), "failed", "page: its scripts threw “Error: no"),
        (seen(errors=["TypeError: x is not a function"]), "failed", "threw “TypeError: x is not a function”"),
        (seen(errors=["Error: Hydration failed because the server rendered text"]), "passed", ""),
        (seen(overlays=["Transform failed\n at board.vue"]), "failed", "an error in place of the page: “Transform failed"),
        (seen(words="Loading…", loading=True, seconds=10.0), "unsure", "still “Loading…” after 10 s"),
        (seen(failed=["Fetch http://localhost:1/api: status 500"]), "unsure", "failed: Fetch http://localhost:1/api"),
        (seen(elsewhere=["https://fonts.invalid/a"]), "passed", "1 request to elsewhere not let out"),
        (seen(words="", scripts_elsewhere=["https://cdn.invalid/a.js"]), "skipped", "not rendered: 1 script on cdn.invalid"),
        (seen(scripts_elsewhere=["https://cdn.invalid/a.js"]), "passed", "2 words"),
        (seen(scripts_elsewhere=["https://cdn.invalid/a.js"], errors=["Error: no tides"]), "failed", "threw “Error: no"),
    ],
)  # fmt: skip
def test_what_a_browser_saw_and_what_is_made_of_it(page: dict[str, Any], verdict: str, says: str) -> None:
    check = judged(page)
    assert (check.verdict, says in check.seen) == (verdict, True), check


@pytest.mark.parametrize(
    "markup, expected",
    [
        ("<title>Tides</title><div id=app></div><script src=a.js></script>", True),
        ("<p>Loading…</p><script type=module src=a.js></script>", True),
        ("<p>High water at 07:40, low water at 13:52, and again at 20:05.</p><script src=a.js></script>", False),
        ("<p>Tides</p>", False),
        ('<p>High water at nine, and low water at three<!--Blazor:{"type":"server"}--><script src=b.js>', True),
        ("<p>High water at nine, and low water at three, and then again<!-- Blazor --><script src=b.js>", False),
        ('{"tides": 1}', False),
    ],
)
def test_a_page_that_only_its_scripts_fill(markup: str, expected: bool) -> None:
    assert is_shell(markup) == expected


@pytest.mark.parametrize(
    "script, expected",
    [
        ("<script src=a.js></script>", True),
        ("<script type=module src='/a.js'></script>", True),
        ("<script>tides()</script>", True),
        ('<script type="text/javascript; charset=utf-8">tides()</script>', True),
        ("<script></script>", False),
        ('<script type="application/ld+json">{}</script><script type=importmap>{}</script>', False),
        ("<script src=https://cdn.invalid/a.js></script><script src=//cdn.invalid/b.js></script>", False),
    ],
)
def test_code_of_a_page_of_its_own(script: str, expected: bool) -> None:
    assert read(f"<h1>Tides</h1>{script}").has_own_code == expected


def test_a_page_that_says_that_it_is_loading() -> None:
    assert is_loading("Loading…") and is_loading(" loading the tides ") and is_loading("Please wait")
    assert not is_loading("Loading dock: open from eight to five") and not is_loading("Tides")


def test_the_events_of_a_browser() -> None:
    answers: list[tuple[str, str]] = []

    class Browser:
        def tell(self, method: str, session: str, **values: Any) -> None:
            answers.append((method, values.get("requestId", "")))

    page = _Seen("http://127.0.0.1:8700")
    for method, told in [
        ("Fetch.requestPaused", {"requestId": "1", "request": {"url": "http://localhost:8700/a.js"}}),
        ("Fetch.requestPaused", {"requestId": "2", "request": {"url": "https://elsewhere.invalid/"}}),
        ("Fetch.requestPaused", {"requestId": "3", "request": {"url": "http://localhost:8701/"}}),
        ("Page.javascriptDialogOpening", {}),
        ("Runtime.exceptionThrown", {"exceptionDetails": {"exception": {"description": "Error: no tides"}}}),
        ("Network.requestWillBeSent", {"requestId": "4", "type": "Fetch", "request": {"url": "http://localhost:8700/api"}}),
        ("Network.responseReceived", {"requestId": "4", "type": "Fetch",
            "response": {"url": "http://localhost:8700/api", "status": 502}}),
        ("Network.responseReceived", {"requestId": "5", "type": "Other",
            "response": {"url": "http://localhost:8700/favicon.ico", "status": 404}}),
        ("Network.loadingFinished", {"requestId": "4"}),
    ]:  # fmt: skip
        page.hear(Browser(), "s", {"method": method, "params": told})  # type: ignore[arg-type]
    assert answers == [
        ("Fetch.continueRequest", "1"), ("Fetch.failRequest", "2"), ("Fetch.failRequest", "3"),
        ("Page.handleJavaScriptDialog", ""),
    ]  # fmt: skip
    assert (
        page.errors == ["Error: no tides"] and list(page.failed) == ["http://localhost:8700/api"] and not page.pending
    )
    with pytest.raises(OSError, match="crashed"):
        page.hear(Browser(), "s", {"method": "Inspector.targetCrashed"})  # type: ignore[arg-type]


PAGES = {
    "/": "<title>Tides</title><div id=app></div><script src=/app.js></script>",
    "/app.js": "fetch('/elsewhere').then(() => document.getElementById('app').textContent = 'high water at 07:40')",
    "/elsewhere": "1",
    "/ends": "<script>for (;;) {}</script>",
    "/throws": "<div id=app></div><script>throw new Error('no tide table')</script>",
    "/asks": "<script>alert(1); window.open('/'); document.write('<p>' + confirm('x'))</script>",
    "/out": "<p id=p></p><script>fetch('http://elsewhere.invalid/').catch(() => p.textContent = 'kept in')</script>",
    "/downloads": "<script>setTimeout(() => location = '/file', 50);"
    "setTimeout(() => document.body.append('stayed here'), 900)</script>",
    "/blank": "<script>1</script>",
}


@pytest.fixture
def origin() -> Iterator[str]:
    kind = {"/file": "application/octet-stream"}
    with served(lambda path, _: (200, kind.get(path, "text/html"), PAGES.get(path, "x"))) as origin:
        yield origin


def test_without_a_browser_that_is_said(origin: str) -> None:
    for more, says in ({}, NO_BROWSER), ({"may_render": False}, "--no-browser"):
        context = msgspec.structs.replace(scene(Path("/"), origin=origin), environment={"PATH": "/nowhere"}, **more)
        checks = RootPage().look(context)
        assert any(says in check.seen for check in checks if check.name == "page"), checks
        assert all(check.verdict == "passed" for check in checks)


@pytest.mark.real
@pytest.mark.skipif(shutil.which("chromium") is None, reason="no Chromium is installed here")
@pytest.mark.parametrize(
    "path, verdict, says",
    [
        ("/", "passed", "4 words"),
        ("/throws", "failed", "no tide table"),
        ("/blank", "failed", "a blank page"),
        ("/ends", "unsure", "its scripts were still at work"),
        ("/asks", "passed", "1 word"),
        ("/out", "passed", "2 words after its scripts ran; 1 request to elsewhere not let out"),
        ("/downloads", "passed", "2 words"),
    ],
)
def test_a_real_browser(origin: str, path: str, verdict: str, says: str) -> None:
    check = check_opened(scene(Path("/"), origin=origin), path)[0]
    assert (check.verdict, says in check.seen) == (verdict, True), check


@pytest.mark.real
@pytest.mark.skipif(shutil.which("chromium") is None, reason="no Chromium is installed here")
def test_a_check_of_ones_own_is_rendered_without_a_package(origin: str, tmp_path: Path) -> None:
    context = msgspec.structs.replace(scene(Path("/"), origin=origin), evidence=lambda name: tmp_path / "page.png")
    checks = Rendered(render="/", title="Tides", shows="high water", elements={"#app": "07:40", "p": 0}).look(context)
    assert [check.verdict for check in checks] == ["passed"] * len(checks), checks
    assert next(tmp_path.iterdir()).read_bytes().startswith(b"\x89PNG")
