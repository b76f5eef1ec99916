"""The one decision: each sign as it is seen, what it does to the verdict, and the page that lists them."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import msgspec
import pytest

from dokimon.core.checks.fetching import Response
from dokimon.core.checks.told_errors import broken_json, told_error
from dokimon.core.planning.health import health_paths
from dokimon.core.planning.parts import asks_in_shell, background_parts, starts_several
from dokimon.core.planning.plan import RunPlan
from dokimon.core.planning.recipes import recipe_lines
from dokimon.core.planning.serving import http_expected
from dokimon.core.processes import settling
from dokimon.core.processes.printed import printed_in
from dokimon.core.processes.readiness import State
from dokimon.core.processes.settling import Settled
from dokimon.core.processes.stopping import Stopped
from dokimon.core.processes.trouble import kind_of, kinds, troubles_in
from dokimon.core.report.model import Check, Listening, Stranger
from dokimon.core.smoking.run.hearing import Heard
from dokimon.core.smoking.run.inputs import Inputs, Port
from dokimon.core.smoking.run.outcome import Attached, Phases, report_of
from dokimon.core.smoking.run.phases import Checked, Ended, Waited, Watched
from dokimon.core.smoking.run.signs import MEANINGS, Seen, decide
from dokimon.core.smoking.run.usage import Usage
from dokimon.core.source import Source

PAGE = Path(__file__).parents[1] / "docs/starting.md"
AT = Listening(address="127.0.0.1", port=5173, pid=7, exposed=False)
HOLDER = Stranger(port=5173, address="127.0.0.1", pid=9, command="gull")


def up(by: str = "its own socket listens and answers over HTTP", **more: Any) -> Waited:
    return Waited(state=State(how="up", seconds=0.2, by=by, **more))


def check_that(verdict: Any) -> Checked:
    return Checked(checks=(Check(name="GET /", verdict=verdict, expected="a page", seen="none"),))


def settled(how: Any, line: str = "tides") -> Waited:
    return Waited(state=State(how="settled", seconds=13, settled=Settled(how, line)))


def over(status: int | None = 0, **more: Any) -> Waited:
    return Waited(state=State(how="ended", seconds=0.1), exit_status=status, **more)


def ended(**more: Any) -> Ended:
    stopped = Stopped(by=None, seconds=0.1, steps=(), left_behind=more.pop("left_behind", ()))
    base: dict[str, Any] = {"seconds": 1.0, "exit_status": 0, "lost_warden": False}
    return Ended(stopped=stopped, **(base | more))


def heard(*lines: str, **more: Any) -> Heard:
    return Heard(troubles=troubles_in(lines), **more)


ANSWERS = up(answered=True, at=AT, url="http://127.0.0.1:5173", shown="http://localhost:5173")
WAITS = up("it says “waiting for jobs”, and waits", settled=Settled("waits", "waiting for jobs"))
REFUSED = "tides: connect ECONNREFUSED 127.0.0.1:6379"

ROWS: list[tuple[str, str, Phases, dict[str, Any]]] = [
    ("answers", "passed", Phases(waited=ANSWERS), {}),
    ("speaks", "passed", Phases(waited=up("it greets as SMTP does", at=AT)), {}),
    ("listens", "passed", Phases(waited=up("it listens on UDP port 9")), {}),
    ("shows", "passed", Phases(waited=up("printed “ready”", as_asked=True)), {}),
    ("waits", "passed", Phases(waited=WAITS), {}),
    ("waits", "passed", Phases(waited=up("it says “tick”", settled=Settled("goes-on", "tick"))), {}),
    ("answers", "passed", Phases(waited=ANSWERS, heard=heard("WARN redis: connection refused")), {}),
    ("tells-of-error", "unsure",
        Phases(waited=over(), checked=check_that("passed"), heard=heard("WARN redis: connection refused")), {}),
    ("part-unseen", "unsure", Phases(waited=ANSWERS, heard=heard(to_serve=("vite", "node a.js"), listening_ports=1)), {}),
    ("only-errors", "failed", Phases(waited=settled("errs", "no tide")), {}),
    ("draws", "passed", Phases(waited=settled("silent"), checked=check_that("passed")), {}),
    ("ended-well", "passed", Phases(waited=over(), checked=check_that("passed")), {}),
    ("shows-help", "passed", Phases(waited=over(2), usage=Usage(verdict="passed", reason="help")), {}),
    ("tells-of-error", "unsure", Phases(waited=ANSWERS, heard=heard(REFUSED)), {}),
    ("tells-of-error", "unsure", Phases(waited=over(), checked=check_that("passed"), heard=heard("error: no tide")), {}),
    ("part-unseen", "unsure", Phases(waited=ANSWERS, heard=heard(parts=2, living_parts=1)), {}),
    ("asks", "unsure", Phases(waited=settled("asks", "Harbour?")), {}),
    ("asks", "unsure", Phases(waited=over(asked="Harbour?"), checked=check_that("passed")), {}),
    ("idle", "unsure", Phases(waited=settled("silent")), {}),
    ("no-work", "unsure", Phases(waited=WAITS, heard=Heard(no_work="0 jobs")), {}),
    ("not-opened", "unsure", Phases(waited=ANSWERS), {"opened_only": "streamlit"}),
    ("check-unsure", "unsure", Phases(waited=ANSWERS, checked=check_that("unsure")), {}),
    ("shared-port", "unsure", Phases(waited=up(at=AT, contested=(HOLDER,)), checked=Checked()), {}),
    ("wants-arguments", "unsure", Phases(waited=over(2), usage=Usage(verdict="unsure", reason="it wants a file")), {}),
    ("slow", "unsure", Phases(waited=Waited(state=State(how="late", seconds=9))), {}),
    ("interrupted", "unsure", Phases(waited=Waited(state=State(how="halted", seconds=1))), {}),
    ("lacks", "unsure", Phases(), {"lacks": "no browser"}),
    ("not-started", "failed", Phases(not_started="no such file"), {}),
    ("no-target", "failed", Phases(attached=Attached(check_that("failed").checks[0], "no buoy")), {}),
    ("ended-early", "failed", Phases(waited=over(3)), {}),
    ("ended-though-serving", "failed", Phases(waited=over(), checked=check_that("passed")), {"serves": "it listens"}),
    ("late", "failed", Phases(waited=Waited(state=State(how="late", seconds=9), listening=(AT,))), {}),
    ("dumb", "failed", Phases(waited=settled("dumb")), {}),
    ("crashed", "failed", Phases(waited=settled("crashed")), {}),
    ("crashed", "failed", Phases(waited=ANSWERS, heard=heard("[1] node api.js exited with code 1")), {}),
    ("only-errors", "failed", Phases(waited=WAITS, heard=heard(*[REFUSED] * 5)), {}),
    ("check-failed", "failed", Phases(waited=ANSWERS, checked=check_that("failed")), {}),
    ("went-down", "failed", Phases(waited=ANSWERS, watched=Watched(went="ended")), {}),
    ("went-down", "failed", Phases(waited=ANSWERS, used=Watched(went="no longer listens")), {}),
    ("other-end", "failed", Phases(waited=ANSWERS, ended=ended(exit_status=3)), {"exits": 0}),
    ("left-behind", "failed", Phases(waited=ANSWERS, ended=ended(left_behind=("7 gull",))), {}),
    ("left-behind", "failed", Phases(waited=ANSWERS, ended=ended(held=(HOLDER,))), {}),
    ("lost-warden", "failed", Phases(waited=ANSWERS, ended=ended(lost_warden=True)), {}),
]  # fmt: skip


def inputs(**more: Any) -> Inputs:
    from dokimon.core.checks.carrying_out import PlannedCheck
    from dokimon.core.checks.console import Console

    checks = (PlannedCheck(Console(exit=more["exits"])),) if "exits" in more else ()
    plan = RunPlan(
        name="quay", command="true", folder=Path("/"), source=Source("x", 1, ""), lacks=more.get("lacks"), checks=checks
    )
    return Inputs(
        plan=plan, argv=("true",), shown="true", variables={}, words={}, port=Port(), terminal=False, own_display=False,
        checks=checks, serves=more.get("serves"), opened_only=more.get("opened_only"),
    )  # fmt: skip


@pytest.mark.parametrize("name, verdict, phases, more", ROWS, ids=[f"{name} {n}" for n, (name, *_) in enumerate(ROWS)])
def test_a_sign_and_what_it_does_to_the_verdict(name: str, verdict: str, phases: Phases, more: dict[str, Any]) -> None:
    run = report_of(inputs(**more), phases)
    assert run.verdict == verdict and name in [each.name for each in run.signs], run
    decisive = [
        each for each in run.signs if {"for": "passed", "against": "unsure"}.get(each.effect, "failed") == verdict
    ]
    assert decisive and decisive[0].seen == run.reason
    without = [Seen(each.name, each.seen) for each in run.signs if each.name != name]
    assert decide(without)[0] != verdict or (verdict == "unsure" and not without)


def test_every_sign_has_a_row_here_and_on_the_page() -> None:
    assert {name for name, *_ in ROWS} == {*MEANINGS}
    listed = re.findall(r"^\| `([\w-]+)` \| (for|against|fatal) \| (.+) \|$", PAGE.read_text("utf-8"), re.MULTILINE)
    assert listed == [(name, meaning.effect, meaning.is_seen) for name, meaning in MEANINGS.items()]


@pytest.mark.parametrize("kind", kinds(), ids=lambda kind: kind.name)
def test_lines_that_tell_of_trouble_and_lines_that_do_not(kind: Any) -> None:
    for line in kind.shown:
        found = kind_of(line)
        assert found and found.name == kind.name, (line, found and found.name)
    for line in kind.not_shown:
        assert kind_of(line) is None, line


def test_a_stack_is_told_by_the_line_that_names_the_error_and_not_where_the_asker_hung_up() -> None:
    stack = ["Traceback (most recent call last):", '  File "x.py", line 1', "    tide()"]
    (told,) = troubles_in(["starting", *stack, "quay.Closed", "going on"])
    assert (told.kind, told.line, told.times) == ("uncaught", "Uncaught quay.Closed", 1)
    assert not troubles_in([*stack, "ConnectionResetError: [Errno 104] Connection reset by peer"])
    assert not troubles_in([*stack, "ssl.SSLError: [SSL: HTTP_REQUEST] http request (_ssl.c:1006)"])
    gone = "ConnectionResetError: [Errno 104] Connection reset by peer"
    assert not troubles_in([*stack, *stack, gone, "    tide()", gone])
    frames = ["    at go (/srv/board.js:3:7)", "    at node:internal/main:1:2"]
    assert [each.line for each in troubles_in(["up", "low water", *frames])] == ["Uncaught low water"]
    assert [each.line for each in troubles_in(["TypeError: low", *frames])] == ["TypeError: low"]
    assert not troubles_in(["telemetry: getaddrinfo ENOTFOUND x.invalid", *frames])
    assert not troubles_in(["(node:7) Warning: an old way", *frames])
    (again,) = troubles_in([f"poll {n}: timed out, request failed" for n in range(5)])
    assert again.times == 5 and again.again_and_again


@pytest.mark.parametrize(
    "files, argv, says",
    [
        ({"package.json": '{"dependencies": {"express": "4"}}'}, ("npm", "start"), "package.json names express"),
        ({"package.json": '{"dependencies": {"express-lint": "4"}}'}, ("npm", "start"), None),
        ({"requirements.txt": "Flask>=2\n"}, ("python", "seed.py"), "requirements.txt names flask"),
        ({"requirements.txt": "flask-sqlalchemy\n"}, ("python", "seed.py"), None),
        ({"go.mod": "require github.com/gin-gonic/gin v1.9"}, ("go", "run", "."), "go.mod names gin-gonic/gin"),
        ({"main.go": "http.ListenAndServe(addr, nil)"}, ("go", "run", "."), "main.go has ListenAndServe("),
        ({"a.py": "from http.server import HTTPServer", "b.py": ""}, ("python", "b.py"), None),
        ({"s.js": "net.createServer(c => c.end())"}, ("node", "s.js"), None),
        ({"s.js": "createServer((req, res) => 1)"}, ("node", "s.js"), "s.js has createServer((req"),
    ],
)
def test_what_shows_that_a_run_is_to_serve(tmp_path: Path, files: dict[str, str], argv: Any, says: str | None) -> None:
    for name, text in files.items():
        (tmp_path / name).write_text(text)
    assert http_expected(tmp_path, argv) == says


def test_health_addresses_are_those_that_the_project_names(tmp_path: Path) -> None:
    (tmp_path / "Dockerfile").write_text(
        "FROM x\nHEALTHCHECK --interval=5s \\\n  CMD wget -qO- http://127.0.0.1:${PORT:-80}/up || exit 1\n"
    )
    (tmp_path / "compose.yaml").write_text(
        "services:\n  db:\n    image: postgres\n    healthcheck:\n      test: curl http://localhost:9/db\n"
        "  web:\n    build: .\n"
        "    healthcheck:\n      test: curl http://localhost:8080/healthz\n"
    )
    (tmp_path / "k8s").mkdir()
    (tmp_path / "k8s/web.yaml").write_text("livenessProbe:\n  httpGet:\n    port: 80\n    path: /live\n")
    assert health_paths(tmp_path) == ("/up", "/live", "/healthz")


def test_what_a_command_starts_side_by_side_asks_and_echoes(tmp_path: Path) -> None:
    scripts = {
        "both": "node a.js & node b.js & wait",
        "one": "node a.js && node b.js 2>&1",
        "many": "concurrently 'a' 'b'",
    }
    (tmp_path / "package.json").write_text(msgspec.json.encode({"scripts": scripts}).decode())
    assert [starts_several(tmp_path, ("npm", "run", each)) for each in scripts] == [True, False, True]
    assert background_parts(tmp_path, ("npm", "run", "both")) == 2 and not background_parts(
        tmp_path, ("npm", "run", "one")
    )
    (tmp_path / "run.sh").write_text("echo hi\nread -r -p 'Harbour? ' name\n")
    assert asks_in_shell(tmp_path, ("./run.sh",)) == "read -r -p 'Harbour? ' name"
    assert asks_in_shell(tmp_path, ("npm", "run", "both")) is None
    (tmp_path / "Makefile").write_text("run:\n\t./tides\n\t@echo done\n")
    assert recipe_lines(tmp_path, ("make", "run")) == {"./tides"} and not recipe_lines(tmp_path, ("./tides",))


def answer(body: str, media_type: str = "application/json") -> Response:
    return Response(path="/", status=200, type=media_type, body=body.encode())


@pytest.mark.parametrize(
    "body, media_type, told",
    [
        ('{"success": false, "error": "no such table: tides"}', "application/json", '"success" is false: “no such table'),
        ('{"ok": false, "reason": "no tide"}', "application/json", '"ok" is false: “no tide”'),
        ('{"service": "tides", "status": "DOWN"}', "application/json", '"status" is "DOWN"'),
        ('{"errors": [{"message": "no table"}], "data": null}', "application/json", 'it has "errors"'),
        ('{"error": {"code": 42}}', "application/json", 'it has "error"'),
        ('{"error": "no tide"}', "", 'it has "error": "no tide"'),
        ("Internal Server Error", "text/plain", "“Internal Server Error”"),
        ("503 Service Unavailable", "", "“503 Service Unavailable”"),
        ("Traceback (most recent call last):\n  File x\nKeyError: 'tides'", "text/plain", "“Traceback"),
        ("Error: no tide table\n    at tides (/srv/x.js:3:4)", "text/plain", "Error: no tide table"),
        ('{"data": [1], "error": null, "errors": []}', "application/json", None),
        ('{"data": {"tides": []}, "errors": [{"message": "one field"}]}', "application/json", None),
        ('{"status": "ok", "error": ""}', "application/json", None),
        ('[{"status": "late", "error": "none"}]', "application/json", None),
        ('{"status": "error-free", "success": true}', "application/json", None),
        ('{"title": "a", "b": 1, "c": 2, "d": 3, "e": 4, "f": 5, "error": "a column of a table"}', "application/json", None),
        ("{not json", "application/json", None),
        ("harbour board, version 3", "text/plain", None),
        ("Internal Server Error" + ", as the harbour counts them" * 4, "text/plain", None),
        ("body { color: red } /* error */", "text/css", None),
    ],
)  # fmt: skip
def test_answers_that_tell_of_their_own_failure(body: str, media_type: str, told: str | None) -> None:
    found = told_error(answer(body, media_type))
    assert (found is None) == (told is None) and (told or "") in (found or ""), found


@pytest.mark.parametrize(
    "body, media_type, where",
    [
        ('{"tides": [1, 2}', "application/json", "line 1, column 16"),
        ('{"a": 1,\n "b": }', "application/problem+json", "line 2"),
        ('{"tides": [1, 2]}', "application/json", None),
        ('{"a": 1}\n{"a": 2}', "application/json", None),
        ("pong", "application/json", None),
        ("", "application/json", None),
        ('{"tides": [1, 2}', "application/x-ndjson", None),
        ("{tides}", "text/plain", None),
    ],
)
def test_json_that_cannot_be_read(body: str, media_type: str, where: str | None) -> None:
    found = broken_json(answer(body, media_type))
    assert (found is None) == (where is None) and (where or "") in (found or ""), found
    assert broken_json(msgspec.structs.replace(answer(body, media_type), complete=False)) is None


@pytest.mark.parametrize(
    "line, waits",
    [
        ("waiting for jobs", True),
        ("worker ready", True),
        ("scheduler started: 1 job, next at 03:00", True),
        ("bot logged in as quay", True),
        ("waiting for connections", True),
        ("Found 0 errors. Watching for file changes.", True),
        ("Waiting for postgres at localhost:5432 ...", False),
        ("waiting for the message broker", False),
        ("waiting for db:5432", False),
        ("waiting for https://tides.example", False),
        ("worker: not running", False),
        ("queue: connect ECONNREFUSED 127.0.0.1:5672, giving up", False),
        ("server is not ready", False),
    ],
)
def test_a_line_says_that_it_waits_only_where_nothing_negates_it(line: str, waits: bool) -> None:
    found = settling._told(["started", line])
    assert (found is not None and found.how == "waits") == waits, found


@pytest.mark.parametrize(
    "begun, asks", [("Harbour? ", True), ("? Name › ", True), ("[y/N] ", True), ("loading", False)]
)
def test_a_line_that_has_begun_asks(begun: str, asks: bool) -> None:
    assert bool(settling.question_in(begun)) == asks


def test_the_ports_of_addresses_that_are_printed_are_known() -> None:
    lines = ["API on http://127.0.0.1:8783, metrics on http://[::1]:9784/", "no port: http://localhost/"]
    assert printed_in(lines).ports == {8783, 9784}
