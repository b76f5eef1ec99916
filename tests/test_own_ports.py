"""Which of a run's own ports is spoken to, which is the application's, and what is made of a root page that is refused."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Any

import pytest

from conftest import STANDINS
from dokimon.core.planning.named_paths import paths_in_readme, probes
from dokimon.core.planning.plan import RunPlan
from dokimon.core.planning.serving import has_root_page
from dokimon.core.planning.serving_parts import serving_parts
from dokimon.core.planning.workspaces import packages_of, unbuilt_packages
from dokimon.core.processes.answering import Answer, Told
from dokimon.core.processes.candidates import Known, chosen, may_be_asked, own_servers, without_tools_pipes
from dokimon.core.processes.printed import Address, printed_in
from dokimon.core.report.model import Listening, Run
from dokimon.core.smoking.run.attempts import carry_out
from dokimon.core.source import Source
from test_settling import context_of


def at(port: int, address: str = "127.0.0.1") -> Listening:
    return Listening(address=address, port=port, pid=1, exposed=False)


def test_what_a_run_prints_of_its_addresses() -> None:
    printed = printed_in([
        "  ➜  Local:   http://localhost:5173/board/",
        "docs at https://[::1]:8443/docs, and (http://127.0.0.1:8000/healthz).",
        "API on port 3001",
        "Debugger listening on ws://127.0.0.1:9229/0b7c",
        "Listening for transport dt_socket at address: 5005",
        "at 2026-11-20 14:02:11.1234 took 5821 ms, see https://example.org/a",
    ])  # fmt: skip
    assert printed.addresses == (
        Address("http", 5173, "/board/"), Address("https", 8443, "/docs"), Address("http", 8000, "/healthz"),
    )  # fmt: skip
    assert 3001 in printed.numbers and not printed.numbers & {1234, 5821} and printed.tools == {9229, 5005}
    assert printed.paths_of(8000) == ("/healthz",) and printed.scheme_of(8443) == "https"
    assert printed_in(["Local: http://localhost:5173/"], printed).paths_of(5173) == ("/board/",)


def test_a_port_that_nobody_named_is_left_alone_while_there_is_another_or_the_run_works() -> None:
    known = Known(None, frozenset({41000}), printed_in(["Debugger listening on ws://127.0.0.1:9229/x"]))
    servers = own_servers([at(9229), at(41001), at(41000), at(3000)], known)
    assert [each.port for each in servers] == [3000, 41000, 41001], "a debugger is no server"
    assert [each.port for each in may_be_asked(servers, known, 99)] == [3000, 41000]
    assert may_be_asked([at(41001)], known, 0.1) == []
    assert may_be_asked([at(41001)], known, 3.0) == [at(41001)]


PAGE, DATA, NONE, UPGRADE = Answer(200, is_page=True), Answer(200), Answer(404), Answer(426)


@pytest.mark.parametrize(
    "answers, expected, since, idle, parts, takes",
    [
        ({3000: PAGE}, None, 0, 0, 0, 3000),
        ({3000: NONE}, 3000, 0, 0, 0, 3000),
        ({3000: NONE}, None, 0, 0, 0, None),
        ({3000: NONE}, None, 1.1, 0, 0, 3000),
        ({3000: NONE, 5173: PAGE}, 3000, 0, 0, 0, 5173),
        ({3000: DATA, 5173: PAGE}, None, 0, 0, 0, 5173),
        ({3000: None, 5173: PAGE}, None, 0, 0, 0, None),
        ({3000: None, 5173: PAGE}, None, 1.1, 0, 0, 5173),
        ({24678: UPGRADE}, None, 5, 0, 0, None),
        ({24678: UPGRADE}, None, 5, 3, 0, 24678),
        ({3001: DATA}, None, 5, 0, 2, None),
        ({3001: DATA, 5173: PAGE}, None, 0, 0, 2, 5173),
        ({3001: DATA}, None, 5, 3, 2, 3001),
    ],
)
def test_the_port_that_a_person_would_open(
    answers: dict[int, Answer | None], expected: int | None, since: float, idle: float, parts: int, takes: int | None
) -> None:
    known = Known(expected, parts=parts)
    servers = own_servers(map(at, answers), known)
    told = {port: Told(100.0, "", answer) for port, answer in answers.items() if answer}
    found = chosen(servers, lambda each: told.get(each.port), known, 100.0 + since, idle)
    assert (found and found.port) == takes


def run_of(folder: Path, *ports: dict[str, Any], **more: Any) -> Run:
    command = (sys.executable, str(STANDINS / "several_ports.py"), json.dumps(ports))
    plan = RunPlan(name="tides", command=command, folder=folder, source=Source("dokimon.toml", 1, ""), **more)
    with carry_out(plan, context_of(folder)) as attempt:
        pass
    return attempt.report


def test_a_port_for_workers_is_not_spoken_to(tmp_path: Path, free_port: int) -> None:
    counts = tmp_path / "counts"
    run = run_of(
        tmp_path,
        {"port": 0, "counts": str(counts)},
        {"port": free_port, "after": 0.4, "says": "http://localhost:PORT", "body": "<h1>Tides</h1>"},
    )
    assert run.verdict == "passed" and run.url == f"http://localhost:{free_port}/", run
    assert not counts.exists(), "it was connected to"
    assert any("not spoken to" in check.seen for check in run.checks), run.checks


def test_the_page_of_another_port_is_loaded_and_is_no_fact_of_the_run(tmp_path: Path, free_port: int) -> None:
    other = {"port": 0, "says": "docs: http://localhost:PORT/", "body": "<title>Docs</title><script src=/gone.js></script>",
        "paths": {"/gone.js": {"status": 404}}}  # fmt: skip
    run = run_of(tmp_path, {"port": free_port, "body": "<title>Tides</title>"}, other, port=free_port)
    assert run.verdict == "failed" and "script /gone.js" in run.reason, run
    assert [fact.value for fact in run.facts if fact.name == "page title"] == ["Tides"]


def test_a_page_wins_over_an_interface_that_was_first(tmp_path: Path, free_port: int) -> None:
    run = run_of(
        tmp_path,
        {"port": 0, "says": "API: http://localhost:PORT", "status": 404, "type": "application/json"},
        {"port": free_port, "after": 0.3, "says": "Local: http://localhost:PORT/", "body": "<h1>Tides</h1>"},
    )
    assert run.verdict == "passed" and run.url == f"http://localhost:{free_port}/", run


@pytest.mark.parametrize(
    "answers, files, verdict, says",
    [
        ({"status": 404}, [], "passed", "no page is among its files"),
        ({"status": 404}, ["public/index.html"], "unsure", "nothing is routed here"),
        ({"status": 404, "says": "http://localhost:PORT/board/", "paths": {"/board/": {"status": 200, "body": "<h1>Tides"}}},
            ["index.html"], "passed", "GET /board/ is served"),
        ({"status": 404, "says": "http://localhost:PORT/board/"}, [], "failed", "nothing is routed here"),
        ({"body": "<h1>Tides", "says": "docs: http://localhost:PORT/docs", "paths": {"/docs": {"status": 500}}}, [],
            "failed", "the server itself says that it failed"),
        ({"body": "<h1>Tides", "says": "http://localhost:PORT/healthz",
            "paths": {"/healthz": {"type": "application/json", "body": '{"status":"down"}'}}}, [], "failed", "is \"down\""),
        ({"body": "<h1>Tides<a href=/healthz>health</a>", "paths": {"/healthz": {"status": 503}}}, [], "failed", "503"),
        ({"body": "<h1>Tides", "says": "hook: http://localhost:PORT/hook", "paths": {"/hook": {"status": 404}}}, [],
            "passed", ""),
        ({"status": 401, "type": "application/json", "body": '{"error":"no token"}'}, [], "passed", "no token"),
        ({"status": 405, "headers": {"Allow": "POST"}}, [], "passed", "it takes POST there"),
        ({"status": 403}, [], "unsure", "asks to sign in"),
        ({"status": 426, "upgrades": True}, ["index.html"], "passed", "it speaks WebSocket there"),
        ({"status": 426}, [], "unsure", "refuses the request"),
        ({"status": 204}, [], "passed", "204"),
        ({"status": 302, "headers": {"Location": "https://id.saltmarsh.invalid/login"}}, [], "passed", "sign in elsewhere"),
        ({"status": 302, "headers": {"Location": "https://saltmarsh.invalid/"}}, [], "unsure", "only redirects"),
    ],
)  # fmt: skip
def test_a_root_page_that_is_refused_is_a_fault_or_what_the_server_should_do(
    tmp_path: Path, free_port: int, answers: dict[str, Any], files: list[str], verdict: str, says: str
) -> None:
    for name in files:
        (tmp_path / name).parent.mkdir(exist_ok=True)
        (tmp_path / name).write_text("<h1>Tides</h1>", encoding="utf-8")
    run = run_of(tmp_path, {"port": free_port, **answers}, port=free_port)
    shown = " ".join(check.seen for check in run.checks)
    assert (run.verdict, says in shown) == (verdict, True), (run.reason, shown)


def test_what_says_that_it_is_starting_is_asked_again(tmp_path: Path, free_port: int) -> None:
    early = {"port": free_port, "status": 503, "headers": {"Retry-After": "1"}}
    assert run_of(tmp_path, early, port=free_port, within=2.5).verdict == "failed"


@pytest.mark.parametrize(
    "scripts, more, command, serving",
    [
        ({"dev": "concurrently -n web,api 'vite' 'node api.js'"}, {}, "dev", ["vite", "node api.js"]),
        ({"dev": "concurrently npm:dev:*", "dev:web": "vite --port 5000", "dev:css": "tailwindcss -w"}, {}, "dev",
            ["vite --port 5000"]),
        ({"dev": "run-p web api", "web": "next dev", "api": "tsx watch api.js"}, {}, "dev",
            ["next dev", "tsx watch api.js"]),
        ({"dev": "node api.js & vite & wait"}, {}, "dev", ["node api.js", "vite"]),
        ({"dev": "turbo run dev"}, {"apps/web": "vite", "apps/docs": "astro dev", "packages/ui": "tsc -w"}, "dev",
            ["astro dev", "vite"]),
        ({"dev": "npm --prefix web run dev & npm run api", "api": "node api.js"}, {"web": "vite"}, "dev",
            ["vite", "node api.js"]),
        ({"dev": "vite"}, {}, "dev", []),
        ({"dev": "vite build && node api.js"}, {}, "dev", []),
    ],
)  # fmt: skip
def test_the_parts_that_are_to_serve(
    tmp_path: Path, scripts: dict[str, str], more: dict[str, str], command: str, serving: list[str]
) -> None:
    (tmp_path / "api.js").write_text("require('http').createServer().listen(1)", encoding="utf-8")
    manifest = {"scripts": scripts, "workspaces": ["apps/*", "packages/*"]}
    (tmp_path / "package.json").write_text(json.dumps(manifest), encoding="utf-8")
    for folder, script in more.items():
        (tmp_path / folder).mkdir(parents=True)
        (tmp_path / folder / "package.json").write_text(json.dumps({"scripts": {"dev": script}}), encoding="utf-8")
    assert [each.command for each in serving_parts(tmp_path, ("npm", "run", command))] == serving


def test_a_part_that_is_to_serve_and_does_not_is_told(tmp_path: Path, free_port: int) -> None:
    (tmp_path / "web.py").write_text(
        f"import http.server as h, socket; helper = socket.create_server(('127.0.0.1', 0))\n"
        f"print('http://localhost:{free_port}', flush=True)\n"
        f"h.HTTPServer(('127.0.0.1', {free_port}), h.SimpleHTTPRequestHandler).serve_forever()", encoding="utf-8"
    )  # fmt: skip
    (tmp_path / "api.py").write_text("import http.server, time; time.sleep(600)", encoding="utf-8")
    plan = RunPlan(
        name="tides",
        command=f"{sys.executable} web.py & {sys.executable} api.py & wait",
        folder=tmp_path,
        source=Source("dokimon.toml", 1, ""),
    )
    with carry_out(plan, context_of(tmp_path)) as attempt:
        pass
    assert attempt.report.verdict == "unsure" and "2 parts of it are to serve" in attempt.report.reason, attempt.report


def test_what_names_the_paths_of_a_server(tmp_path: Path) -> None:
    (tmp_path / "README.md").write_text("Open http://localhost:8000/board. Not http://localhost:9/x", encoding="utf-8")
    (tmp_path / "package.json").write_text('{"dependencies": {"socket.io": "^4"}}', encoding="utf-8")
    assert paths_in_readme(tmp_path, 8000) == ("/board",)
    assert probes(tmp_path) == ("/socket.io/?EIO=4&transport=polling",)
    assert not has_root_page(tmp_path)
    (tmp_path / "index.html").touch()
    assert has_root_page(tmp_path)
    assert without_tools_pipes(["/tmp/tsx-0/7.pipe", "/tmp/dotnet-diagnostic-7-1-socket", "/run/tides"]) == [
        "/run/tides"
    ]


@pytest.mark.parametrize(
    "ui, tides, unbuilt",
    [
        ({"main": "dist/index.js", "scripts": {"build": "tsc"}}, {}, ["ui"]),
        ({"exports": {".": {"import": "./dist/i.mjs"}}, "scripts": {"build": "x"}, "dependencies": {"@quay/tides": "*"}},
            {"main": "./lib/a.js", "scripts": {"build": "x"}}, ["tides", "ui"]),
        ({"main": "src/index.js", "scripts": {"build": "tsc"}}, {}, []),
        ({"main": "dist/index.js"}, {}, []),
        ({"main": "dist/built.js", "scripts": {"build": "tsc"}}, {}, []),
        ({"main": "dist/index.js", "scripts": {"build": "tsc"}, "name": "nobody-needs-it"}, {}, []),
    ],
)  # fmt: skip
def test_the_packages_of_a_workspace_that_must_be_built_first(
    tmp_path: Path, ui: dict[str, Any], tides: dict[str, Any], unbuilt: list[str]
) -> None:
    manifests = {
        ".": {"workspaces": ["apps/*", "packages/*"]},
        "apps/web": {"dependencies": {"@quay/ui": "*", "@quay/out": "*"}},
        "packages/ui": {"name": "@quay/ui", **ui},
        "packages/tides": {"name": "@quay/tides", **tides},
    }
    for folder, manifest in manifests.items():
        (tmp_path / folder).mkdir(parents=True, exist_ok=True)
        (tmp_path / folder / "package.json").write_text(json.dumps(manifest), encoding="utf-8")
    (tmp_path / "packages/ui/dist").mkdir()
    (tmp_path / "packages/ui/dist/built.js").touch()
    outside = tmp_path.with_name(f"{tmp_path.name}-outside")
    outside.mkdir()
    (outside / "package.json").write_text(
        json.dumps({**manifests["packages/ui"], "name": "@quay/out"}), encoding="utf-8"
    )
    (tmp_path / "packages/link").symlink_to(outside)
    assert [path.name for path in unbuilt_packages(tmp_path)] == unbuilt
    assert packages_of(tmp_path)[-1].name == "ui", "a link out of the checkout is none of it"
