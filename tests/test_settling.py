"""What neither serves pages nor ends: workers, watchers, prompts, other protocols; and programs that want arguments."""

from __future__ import annotations

import os
import socket
import sys
import threading
from pathlib import Path
from typing import Any

import msgspec
import pytest

from conftest import STANDINS
from dokimon.core.checks import http2
from dokimon.core.planning.plan import Rank, RunPlan
from dokimon.core.planning.serving import http_expected
from dokimon.core.processes import answering, candidates, readiness, settling
from dokimon.core.processes.logs import Logs
from dokimon.core.processes.output import Output
from dokimon.core.processes.readiness import Awaited, wait_until_up
from dokimon.core.processes.stopping import stop
from dokimon.core.processes.systems import linux
from dokimon.core.processes.tree import Tree
from dokimon.core.processes.watching import Watcher
from dokimon.core.report.model import Run
from dokimon.core.smoking.context import RunContext
from dokimon.core.smoking.run import phases
from dokimon.core.smoking.run.attempts import carry_out
from dokimon.core.source import Source


def context_of(folder: Path, watched_seconds: float = 0.1) -> RunContext:
    logs = Logs(folder, {"XDG_CACHE_HOME": str(folder / "cache")})
    environment = {"PATH": "/usr/bin:/bin", "HOME": str(folder)}
    return RunContext(
        environment=environment,
        halt=threading.Event(),
        watcher=Watcher(),
        logs=logs,
        root=folder,
        watched_seconds=watched_seconds,
    )


def plan_of(folder: Path, *words: str, rank: Rank = Rank.FILE, **more: Any) -> RunPlan:
    return RunPlan(
        name="tides",
        command=(sys.executable, str(STANDINS / "settles.py"), *words),
        folder=folder,
        source=Source("dokimon.toml", 1, ""),
        rank=rank,
        **more,
    )


def run_of(folder: Path, *words: str, watched_seconds: float = 0.1, **more: Any) -> Run:
    with carry_out(plan_of(folder, *words, **more), context_of(folder, watched_seconds)) as attempt:
        pass
    return attempt.report


@pytest.fixture
def impatient(monkeypatch: pytest.MonkeyPatch) -> None:
    """Seconds would be waited; what is waited for is the same."""
    for module, name, seconds in (
        (settling, "_QUIET_SECONDS", 0.7), (settling, "_LONG_QUIET_SECONDS", 1.5), (settling, "_LOOK_EVERY", 0.1),
        (readiness, "_SILENT_SECONDS", 2.5), (candidates, "IDLE_SECONDS", 0.2),
        (candidates, "_BETTER_SECONDS", 0.2), (answering, "_NOT_HTTP_SECONDS", 0.3),
    ):  # fmt: skip
        monkeypatch.setattr(module, name, seconds)


@pytest.mark.usefixtures("impatient")
@pytest.mark.skipif(sys.platform != "linux", reason="elsewhere it is not known what a process works at")
@pytest.mark.parametrize(
    "words, verdict, says",
    [
        (["worker"], "passed", "it says “waiting for jobs”, and waits"),
        (["crashed"], "failed", "what it watches has ended with an error: “[nodemon] app crashed"),
        (["asks"], "unsure", "it asks “Admin user name:” and waits for an answer; `keys`"),
        (["udp", "0"], "passed", "it listens on UDP port"),
        (["greets", "0"], "passed", "and greets as SMTP does"),
        (["hangs-up", "0"], "passed", "it does not speak HTTP"),
        (["silent", "0"], "passed", "and is silent to HTTP"),
        (["deaf", "0"], "failed", "it takes no connection"),
    ],
)
def test_what_does_not_speak_http_is_known_for_what_it_is(
    tmp_path: Path, words: list[str], verdict: str, says: str
) -> None:
    run = run_of(tmp_path, *words)
    assert (run.verdict, says in f"{run.reason} {run.up_by}") == (verdict, True), run


@pytest.mark.usefixtures("impatient")
@pytest.mark.skipif(sys.platform != "linux", reason="elsewhere it is not known what a process works at")
def test_a_server_that_listens_nowhere_and_tells_of_an_error_is_not_waited_for(tmp_path: Path) -> None:
    run = run_of(tmp_path, "gives-up", kind="server")
    assert run.verdict == "failed" and "listens nowhere, and says “Build failed: board.jsx:2:23" in run.reason, run


@pytest.mark.parametrize(
    "lines, every, looks, how",
    [
        (["Application started", "tick"], 1.0, 5, "goes-on"),
        (["Application started", "tick"], 1.0, 4, None),
        (["tick"], 1.0, 19, None),
        (["tick"], 1.0, 21, "goes-on"),
        (["Application started", "3 % of it"], 1.0, 40, None),
        (["worker started", "ERROR no pier"], 1.0, 10, None),
        (["worker started", "ERROR no pier"], 1.0, 16, "errs"),
        (["waiting for db:5432"], 2.0, 9, "errs"),
        (["worker started", "ERROR no pier"], 5.0, 4, None),
    ],
)
def test_what_says_the_same_again_and_again(lines: list[str], every: float, looks: int, how: str | None) -> None:
    repeating = settling.Repeating()
    *begin, last = lines
    said = [[*(begin if look == 0 else []), f"{last} {look}"] for look in range(looks)]
    found = [repeating.add(each, 100.0 + look * every) for look, each in enumerate(said)]
    assert (found[-1].how if found[-1] else None) == how


@pytest.mark.usefixtures("impatient")
@pytest.mark.skipif(sys.platform != "linux", reason="elsewhere it is not known what a process works at")
def test_a_run_that_dies_soon_after_it_was_up_has_failed(tmp_path: Path) -> None:
    run = run_of(tmp_path, "dies", watched_seconds=8.0)
    assert run.verdict == "failed" and "within 8 s after it was up" in run.reason
    assert run.last_lines[-1] == "lost the connection"


def test_a_run_is_watched_for_less_where_all_is_as_when_it_last_passed(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(phases, "UNCHANGED_SHARE", 0.0)
    context = msgspec.structs.replace(context_of(tmp_path, watched_seconds=600.0), after_checks_seconds=0.1)
    context.unchanged.set()
    with carry_out(plan_of(tmp_path, "greets", "0"), context) as attempt:
        pass
    assert attempt.report.verdict == "passed" and (attempt.report.watched_seconds or 600) < 600


@pytest.mark.parametrize(
    "declared, verdict, says",
    [
        ("1.4.0", "passed", "it wants arguments (“usage: tides"),
        ("1.5.0", "failed", "--version: 1.4.0 (expected: 1.5.0, as pyproject.toml says)"),
        (None, "passed", "it wants arguments"),
    ],
)
def test_a_program_that_wants_arguments_is_looked_at_by_its_help(
    tmp_path: Path, declared: str | None, verdict: str, says: str
) -> None:
    if declared:
        (tmp_path / "pyproject.toml").write_text(f'[project]\nname = "tides"\nversion = "{declared}"\n')
    run = run_of(tmp_path, "usage")
    assert (run.verdict, says in run.reason) == (verdict, True), run
    assert run.checks[0].name == "--help" and run.checks[0].verdict == "passed"


@pytest.mark.parametrize(
    "words, rank, verdict, says",
    [
        (["wants-a-file"], Rank.COMMAND, "unsure", "exit status 1 (“tides: no chart here”), but its --help works"),
        (["wants-a-file"], Rank.FILE, "failed", "exit status 1"),  # a lone file that fails has failed
        (["wants-a-file", "fails"], Rank.COMMAND, "failed", "exit status 1"),
        (["wants-a-file", "fatal"], Rank.COMMAND, "failed", "exit status 1"),
        (["raises"], Rank.COMMAND, "failed", "exit status 1"),
    ],
)
def test_a_command_that_fails_without_arguments_is_left_open_where_its_help_works(
    tmp_path: Path, words: list[str], rank: Rank, verdict: str, says: str
) -> None:
    run = run_of(tmp_path, *words, rank=rank)
    assert (run.verdict, says in run.reason) == (verdict, True), run


def test_a_program_that_only_shows_its_help_says_so(tmp_path: Path) -> None:
    run = run_of(tmp_path, "help")
    assert run.verdict == "passed" and run.reason.startswith("it shows its help (“Usage: tides DAY”)")


def test_a_program_that_wants_a_terminal_gets_one(tmp_path: Path) -> None:
    run = run_of(tmp_path, "curses")
    assert run.verdict == "passed" and run.last_lines == ("high water at 07:40",)


@pytest.mark.skipif(sys.platform != "linux", reason="asks Linux")
def test_the_kernel_tells_that_somebody_listens_anew(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.delenv("DOKIMON_PROCESSES", raising=False)
    watch = linux.new_listeners()
    assert watch is not None
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        while watch.changed():  # other tests listen too
            pass
        probe.listen()
        assert watch.changed()
        while watch.changed():
            pass
    assert watch.changed()
    watch.close()


@pytest.mark.skipif(sys.platform != "linux", reason="asks Linux")
def test_where_the_kernel_does_not_answer_all_is_looked_at_as_elsewhere(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.delenv("DOKIMON_PROCESSES", raising=False)
    for family in (socket.AF_INET, socket.AF_INET6):
        request = linux._REQUESTS[family]
        monkeypatch.setitem(
            linux._REQUESTS, family, request[:4] + b"\xff\x7f" + request[6:]
        )  # a kind that is not known
    assert linux.new_listeners() is None
    code = "import http.server as h; h.HTTPServer(('127.0.0.1', 0), h.SimpleHTTPRequestHandler).serve_forever()"
    tree = Tree.start([sys.executable, "-c", code], Path.cwd(), os.environ, Output())
    try:
        assert wait_until_up(tree, Awaited(within=20), threading.Event()).how == "up"
    finally:
        stop(tree)


@pytest.mark.parametrize(
    "begun, asks",
    [
        ("1> ", False), ("iex(1)> ", False), (">>> ", False), ("irb(main):001> ", False), ("(board)1> ", False),
        ("Admin user name: ", True), ("Continue? [y/N] ", True), ("", False),
    ],
)  # fmt: skip
def test_a_prompt_of_a_shell_is_no_question(begun: str, asks: bool) -> None:
    assert (settling.question_in(begun) is not None) == asks


def test_what_draws_on_the_whole_terminal_is_up(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(settling, "_ON_SCREEN_SECONDS", 0.2)
    monkeypatch.setattr(settling, "_LOOK_EVERY", 0.1)
    run = run_of(tmp_path, "draws")
    assert run.verdict == "passed" and "it draws on the whole terminal: “Heron Quay" in (run.up_by or ""), run


def test_what_says_that_it_is_up_and_ends_is_unsure(tmp_path: Path) -> None:
    run = run_of(tmp_path, "ends-at-once")
    assert run.verdict == "unsure" and "it says “tide worker started”, and has ended" in run.reason, run


@pytest.mark.parametrize(
    "files, words, expected",
    [
        ({"main.py": "from tides.app import main\n", "tides/app.py": "from . import web\n", "tides/web.py": "HTTPServer(x)"},
            ("python", "main.py"), "tides/web.py has HTTPServer("),
        ({"a.mjs": "import { b } from './l/b.mjs'\n", "l/b.mjs": "http.createServer(x)"}, ("node", "a.mjs"), "l/b.mjs"),
        ({"main.py": "import json\n", "server.py": "HTTPServer(x)"}, ("python", "main.py"), None),
        ({"main.py": "import loop\n", "loop.py": "import main\n"}, ("python", "main.py"), None),
    ],
)  # fmt: skip
def test_what_a_file_imports_shows_that_it_is_to_serve(
    tmp_path: Path, files: dict[str, str], words: tuple[str, ...], expected: str | None
) -> None:
    for name, text in files.items():
        (tmp_path / name).parent.mkdir(exist_ok=True)
        (tmp_path / name).write_text(text)
    found = http_expected(tmp_path, words)
    assert (found or "").startswith(expected) if expected else found is None


@pytest.mark.usefixtures("impatient")
@pytest.mark.skipif(sys.platform != "linux", reason="elsewhere it is not known what a process works at")
def test_what_listens_late_has_its_time_to_answer_too(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(readiness, "_DUMB_SECONDS", 2.0)
    monkeypatch.setattr(readiness, "_YET_TO_SERVE_SECONDS", 20.0)
    plan = plan_of(tmp_path, "3.5", "0.8")
    plan = msgspec.structs.replace(plan, command=(sys.executable, str(STANDINS / "late.py"), "3.5", "0.8"))
    with carry_out(plan, context_of(tmp_path)) as attempt:
        pass
    assert attempt.report.verdict == "passed", attempt.report


@pytest.mark.parametrize(
    "words, verdict, says",
    [
        (["drips"], "unsure", "it answers, but refuses the request"),
        (["200"], "passed", "it speaks HTTP/2 alone, and answers in it: 200"),
        (["404"], "passed", "answers in it: 404"),
        (["500"], "failed", "the server itself says that it failed"),
        (["200", "0801"], "passed", "its gRPC health says that it is serving"),
        (["200", "0802"], "failed", "its gRPC health says that it is not serving"),
    ],
)
def test_what_speaks_http2_alone_is_asked_in_it(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, words: list[str], verdict: str, says: str
) -> None:
    monkeypatch.setattr(http2, "_SECONDS", 2.0)
    command = (sys.executable, str(STANDINS / "http2_only.py"), "0", *words)
    plan = msgspec.structs.replace(plan_of(tmp_path, kind="server"), command=command)
    with carry_out(plan, context_of(tmp_path)) as attempt:
        pass
    root = next(check for check in attempt.report.checks if check.name == "GET /")
    assert (root.verdict, says in root.seen) == (verdict, True), root


@pytest.mark.parametrize("more, verdict", [("", "unsure"), ("high water", "passed")])
def test_what_a_compiler_says_of_the_code_is_none_of_a_programs_own_output(
    tmp_path: Path, more: str, verdict: str
) -> None:
    said = (
        f"warning: unreachable statement\n --> src/main.rs:2:5\n  |\n2 |  go();\n  |  ^^^^ here\n  = note: on\n{more}"
    )
    plan = msgspec.structs.replace(plan_of(tmp_path), command=(sys.executable, "-c", f"print({said!r})"))
    with carry_out(plan, context_of(tmp_path)) as attempt:
        pass
    assert attempt.report.verdict == verdict
