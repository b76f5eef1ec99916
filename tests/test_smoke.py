"""`dokimon smoke`, driven as installed, on small programs that behave as real projects do on a bad afternoon."""

from __future__ import annotations

import json
import os
import pty
import re
import shutil
import signal
import socket
import subprocess
import sys
import threading
import time
import urllib.request
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import msgspec
import psutil
import pytest

from conftest import STANDINS, World, processes_of, report_in, wait_for
from dokimon.cli.qr_code import drawn
from dokimon.core.processes.logs import Logs
from dokimon.core.processes.sockets import own_addresses
from dokimon.core.processes.watching import Watcher
from dokimon.core.reading.manifest import open_manifest
from dokimon.core.smoking.context import RunContext
from dokimon.core.smoking.run.attempts import carry_out


def check_of(run: dict[str, Any], name: str) -> dict[str, Any]:
    (found,) = [each for each in run["checks"] if each["name"] == name]
    assert isinstance(found, dict)
    return found


@pytest.mark.parametrize(
    "behaviours, smoke, status, verdict, says",
    [
        ("", "", 0, "passed", "every check passed"),
        ("", 'get = "/"\nstatus = 200\ntitle = "Harbour"\nshows = ["open FROM eight", "<h1>"]', 0, "passed",
            "every check passed"),
        ("", 'get = "/"\ntitle = "Lighthouse"', 1, "failed", "title: “Harbour”"),
        ("", 'get = "/"\nshows = "Lighthouse"', 1, "failed", "words without it: “Harbour office Open from eight to "
            "five”"),
        ("", 'get = "/nowhere"\nstatus = 404', 0, "passed", "every check passed"),
        ("", 'get = "/nowhere"', 1, "failed", "nothing is routed here"),
        ("", 'get = "/"\nstatus = [301, 302]', 1, "failed", "GET /: 200"),
        ("broken", "", 1, "failed", "the server itself says that it failed"),
        ("debugs", "", 1, "failed", "the server itself says that it failed"),
        ("nothing-routed", "", 0, "passed", "every check passed"),
        # A development server that compiles on the first request answers slowly once: that is time, not failure.
        ("slow-first", "", 0, "passed", "every check passed"),
        # The page of a single-page application is an empty shell: the script it names must load, and be one.
        ("shell", "", 0, "passed", "every check passed"),
        ("shell falls-back", "", 1, "failed", "script /app.js: a page, not a script"),
        # What its module imports must load too: that is where the application stands.
        ("shell modules", "", 0, "passed", "every check passed"),
        ("shell modules broken-import", "", 1, "failed", "module /board.vue: status 500"),
        ("shell", 'get = "/"\nassets = true', 0, "passed", "every check passed"),
        ("", 'get = "/app.js"\nassets = true', 1, "failed", "text/javascript, no page"),
        ("dies-when-asked", "", 1, "failed", "ended with exit status 9 after"),
    ],
)  # fmt: skip
def test_a_server_and_what_is_made_of_it(
    world: World, behaviours: str, smoke: str, status: int, verdict: str, says: str
) -> None:
    world.server(*behaviours.split(), more=f"[[smoke]]\n{smoke}\n" if smoke else "")
    ended, run = world.run_of()
    assert (ended, run["verdict"], says in run["reason"]) == (status, verdict, True), run
    if verdict == "passed":
        assert check_of(run, "stops")["verdict"] == "passed" and run["stopped_by"] == "SIGINT"
        assert run["listening"][0]["address"] == "127.0.0.1" and not run["listening"][0]["exposed"]
        assert run["url"] == f"http://localhost:{run['listening'][0]['port']}/"
    if behaviours == "slow-first":
        assert run["up_seconds"] >= 2


def test_a_slow_first_answer_to_a_check_is_time_and_no_failure(world: World) -> None:
    """Known to be up by a line, so that the check's own request is the first, and compiles."""
    world.server("slow-first", more="up = { line = 'is ready' }\n[[smoke]]\nget = '/'\ntitle = 'Harbour'\n")
    status, run = world.run_of()
    assert status == 0 and check_of(run, "GET /")["seconds"] >= 2 and "is ready" in run["up_by"]


def test_an_error_beside_an_answer_leaves_it_open_with_its_cause(world: World) -> None:
    world.server("lacks-redis")
    status, run = world.run_of()
    assert status == 3 and [each["name"] for each in run["diagnoses"]] == ["refused-redis"] and "noticed" not in run
    assert [(each["name"], each["effect"]) for each in run["signs"]] == [
        ("answers", "for"),
        ("tells-of-error", "against"),
    ]
    world.server("lacks-redis", more='harmless = "connect ECONNREFUSED"\n')
    status, known = world.run_of()
    assert status == 0 and [each["name"] for each in known["signs"]] == ["answers"]
    world.server("lacks-redis")
    drawn = " ".join(world.dokimon("smoke").out.split())
    assert "it tells of a service or host that does not answer: “cache: connect ECONNREFUSED" in drawn
    assert "for it: it is up, and every check passed" in drawn


def test_one_fault_counts_once_and_junit_says_what_helps(world: World) -> None:
    """A page whose script is wrong is one failure, not four: run, check, sum of the parts, part."""
    world.server("shell", "falls-back", "lacks-redis")
    assert ": failed · " in (drawn := world.dokimon("smoke").out) and "3 of 4 checks passed" in drawn
    quiet = world.dokimon("smoke", "-q").out
    assert "script /app.js" in quiet and not any(line.strip().startswith("passed") for line in quiet.splitlines())
    suite = ElementTree.fromstring(world.dokimon("smoke", "--format", "junit").out)[-1]
    failures = [(case, failure) for case in suite for failure in case.findall("failure")]
    assert suite.get("failures") == "1" and [case.get("name") for case, _ in failures] == ["GET /: script /app.js"]
    says = failures[0][1].text or ""
    assert all(word in says for word in ("likely cause: ", "to do: ", "its last lines:", "its whole output: "))
    assert suite[0].get("file") == "dokimon.toml" and suite[0].get("line") == "2"


def test_the_script_that_is_no_script_is_named(world: World) -> None:
    world.server("shell", "falls-back")
    drawn = world.dokimon("smoke")
    assert drawn.status == 1 and "script /app.js" in drawn.out and "a page, not a script" in drawn.out


@pytest.mark.usefixtures("back_end")
def test_a_stranger_on_the_usual_port_proves_nothing(world: World, free_port: int) -> None:
    """The stranger answers 200 there; the project moves on to another port, where it says that it is broken."""
    stranger = subprocess.Popen(
        [sys.executable, str(STANDINS / "server.py"), str(free_port)], stdout=subprocess.PIPE, text=True
    )
    try:
        assert stranger.stdout and any("ready" in line for line in stranger.stdout)
        world.server("moves", "broken", port=free_port)
        status, run = world.run_of()
        assert (status, run["verdict"]) == (1, "failed")
        assert run["listening"][0]["port"] != free_port
        assert run["strangers"][0]["pid"] == stranger.pid and "server.py" in run["strangers"][0]["command"]
        world.server("moves", port=free_port)
        drawn = world.dokimon("smoke")
        assert drawn.status == 0 and f"port {free_port} is held by process {stranger.pid}" in drawn.out
        # Where it cannot move, it ends, and the holder of the port is named all the same.
        world.server(port=free_port)
        status, run = world.run_of()
        assert (status, run["exit_status"], run["strangers"][0]["pid"]) == (1, 1, stranger.pid)
        assert run["last_lines"] == [f"port {free_port} is taken"]
    finally:
        stranger.kill()
        stranger.communicate()


@pytest.mark.usefixtures("back_end")
@pytest.mark.parametrize("behaviour, by", [("", "SIGTERM"), ("stubborn", "SIGKILL")])
def test_a_wrapper_in_a_session_of_its_own_leaves_nothing_running(world: World, behaviour: str, by: str) -> None:
    """The package manager is a wrapper: it goes, and the server behind it, in a session of its own, must go too."""
    world.tool("npm", f'exec {sys.executable} {STANDINS / "npm"} "$@"')
    world.tool("node", "echo v20.11.1")
    script = f"{sys.executable} {STANDINS / 'server.py'} 0 {behaviour}"
    world.write({"package.json": json.dumps({"scripts": {"dev": script}})})
    status, run = world.run_of()
    assert status == 0, run
    assert run["stopped_by"] == by and run["stopping"][0]["signal"] == "SIGINT"
    assert all(step["processes"] >= 1 and step["seconds"] >= 0 for step in run["stopping"])
    assert not processes_of(world)


@pytest.mark.usefixtures("back_end")
def test_a_server_that_turns_itself_into_a_daemon_is_found_and_ended(world: World, free_port: int) -> None:
    world.server("daemon", port=free_port)
    status, run = world.run_of()
    assert (status, run["verdict"], run["listening"][0]["port"]) == (0, "passed", free_port)


@pytest.mark.parametrize(
    "command, status, verdict, reason, lines",
    [
        ("echo sailing; exit 0", 0, "passed", "ended with exit status 0", ["sailing"]),
        ("echo loading; echo no harbour >&2; exit 7", 1, "failed", "ended with exit status 7",
            ["loading", "no harbour"]),
        ("kill -TERM $$", 1, "failed", "was ended by SIGTERM", None),
        ("no-such-command", 1, "failed", "ended with exit status 127", None),
        (r"printf 'a\\r50 %%\\r100 %%\\n\\033[31mred\\033[0m [b]x[/b]\\007\\n'", 0, "passed", "ended",
            ["100 %", "red [b]x[/b]\N{REPLACEMENT CHARACTER}"]),
        ("printf 'no end of line'", 0, "passed", "ended", ["no end of line"]),
    ],
)  # fmt: skip
def test_a_program_that_ends_is_judged_by_its_end(
    world: World, command: str, status: int, verdict: str, reason: str, lines: list[str] | None
) -> None:
    """A crash is told at once with its exit status and last lines, not as a time-out."""
    world.write({"dokimon.toml": f'format = 1\n[[run]]\nname = "boat"\ncommand = "{command}"\n'})
    ended, run = world.run_of()
    assert (ended, run["verdict"], reason in run["reason"]) == (status, verdict, True), run
    assert lines is None or sorted(run["last_lines"]) == sorted(lines)
    drawn = world.dokimon("smoke").out
    assert "\x1b" not in drawn and all(line in drawn for line in lines or [])


@pytest.mark.parametrize(
    "smoke, status, says",
    [
        ('exit = 3\nprints = ["high", "water"]', 0, "exit status 3"),
        ("exit = 0", 1, "exit status 3"),
        ('exit = 3\nprints = "low water"', 1, "not in the 1 line that it printed"),
    ],
)  # fmt: skip
def test_exit_and_prints(world: World, smoke: str, status: int, says: str) -> None:
    text = f'format = 1\n[[run]]\nname = "tides"\ncommand = "echo high water; exit 3"\n[[smoke]]\n{smoke}\n'
    world.write({"dokimon.toml": text})
    ended, run = world.run_of()
    assert ended == status and any(says in check["seen"] for check in run["checks"]), run


@pytest.mark.parametrize(
    "more, kind, status, reason",
    [
        ("up = { within = '1s' }", None, 3, "still running after 1 s, and listens nowhere"),
        ("up = { within = '1s' }\nkind = 'server'", "server", 1, "still running after 1 s, and listens nowhere"),
        ("up = { line = 'ready [0-9]+' }", "server", 0, "it is up"),
    ],
)  # fmt: skip
def test_a_run_that_listens_nowhere(world: World, more: str, kind: str | None, status: int, reason: str) -> None:
    run_text = f'format = 1\n[[run]]\nname = "worker"\ncommand = "echo ready 12; sleep 60"\n{more}\n'
    world.write({"dokimon.toml": run_text})
    ended, run = world.run_of()
    assert (ended, reason in run["reason"]) == (status, True), run
    assert run["stopped_by"] == "SIGINT"


def test_dependencies_are_prepared_once_and_only_then(world: World) -> None:
    world.tool("npm", f'exec {sys.executable} {STANDINS / "npm"} "$@"')
    world.tool("node", "echo v20.11.1")
    package = {"scripts": {"start": "echo sailing"}, "dependencies": {"tern": "^1.0.0"}, "standin": {"seconds": 2}}
    world.write({"package.json": json.dumps(package)})
    first = world.dokimon("smoke", "--format", "json")
    assert first.status == 0 and first.report["prepared"][0]["verdict"] == "passed"
    assert "install packages: npm install" in first.err  # in a pipe, a plain line for each stage
    second = world.dokimon("smoke", "--format", "json")
    assert second.report["prepared"][0]["verdict"] == "skipped"
    assert (world.checkout / "installs.log").read_text().count("\n") == 1
    shutil.rmtree(world.checkout / "node_modules/tern")
    assert world.dokimon("smoke", "--format", "json").report["prepared"][0]["reason"] == "node_modules has no tern"


def test_a_step_that_fails_ends_it_with_its_last_lines(world: World) -> None:
    world.write(
        {
            "dokimon.toml": 'format = 1\n[[prepare]]\ncommand = "echo no timber; exit 4"\n'
            '[[run]]\nname = "boat"\ncommand = "touch sailed"\n'
        }
    )
    ended = world.dokimon("smoke", "--format", "json")
    (step,) = ended.report["prepared"]
    assert (ended.status, step["exit_status"], step["last_lines"]) == (1, 4, ["no timber"])
    assert not (world.checkout / "sailed").exists() and ended.report["runs"] == []
    assert "no timber" in world.dokimon("smoke").out


@pytest.mark.parametrize("script, status", [("echo v16.0.0", 1), ("echo hello", 3)])
def test_nothing_is_run_before_the_needs_are_met(world: World, script: str, status: int) -> None:
    world.tool("node", script)
    text = 'format = 1\n[[run]]\nname = "boat"\ncommand = "touch sailed"\n'
    world.write({".nvmrc": "20", "dokimon.toml": text})
    ended = world.dokimon("smoke")
    assert ended.status == status and not (world.checkout / "sailed").exists()
    assert "→" in ended.out and "--anyway" in ended.out
    assert world.dokimon("smoke", "--anyway").status == status and (world.checkout / "sailed").exists()


def _wait_for_line(process: subprocess.Popen[str], text: str) -> str:
    assert process.stderr
    for line in process.stderr:
        if text in line:
            return line
    raise AssertionError(f"{text!r} was never said; it ended with {process.wait()}")


def test_keep_leaves_it_up_until_interrupted(world: World) -> None:
    world.server()
    process = world.start("smoke", "--keep", "--format", "json")
    line = _wait_for_line(process, "is up at")
    address = re.search(r"http://\S+/", line)
    assert address and "Ctrl+C" in line
    page = urllib.request.urlopen(address[0].replace("localhost", "127.0.0.1"), timeout=5).read()
    assert b"Harbour" in page
    process.send_signal(signal.SIGINT)
    out, _ = process.communicate(timeout=20)
    assert process.returncode == 0 and report_in(out)["verdict"] == "passed"


@pytest.mark.parametrize(
    "behaviours, more, expected",
    [
        ("open", "expose = true", "other devices reach it at"),
        ("open", "", "does not say expose = true"),
    ],
)
def test_keep_tells_where_other_devices_find_it(world: World, behaviours: str, more: str, expected: str) -> None:
    world.server(*behaviours.split(), more=more + "\n")
    process = world.start("smoke", "--keep", "--qr")
    if own_addresses() or expected != "other devices reach it at":
        line = _wait_for_line(process, expected)
        assert all(address in line for address in own_addresses()[:1] if "http" in line)
        assert "http" not in line or _wait_for_line(process, "██ ▄▄▄▄▄")
    process.send_signal(signal.SIGINT)
    out, _ = process.communicate(timeout=20)
    assert ("passed  reachable" in out) == bool(more and own_addresses())
    assert ("other machines may reach it" in out) == (behaviours == "open" and not more)


def test_a_qr_code_is_for_what_is_kept_up(world: World) -> None:
    ended = world.dokimon("smoke", "--qr")
    assert ended.status == 2 and "call it with --keep" in ended.err


def test_a_qr_code_has_every_module_of_the_code() -> None:
    segno = pytest.importorskip("segno")
    halves = {"█": "11", "▀": "10", "▄": "01", " ": "00"}
    lines = drawn("http://192.0.2.7:5173/")
    light = [bits for line in lines for bits in zip(*(halves[character] for character in line), strict=True)]
    wanted = [
        tuple("01"[not dark] for dark in row)
        for row in segno.make("http://192.0.2.7:5173/", micro=False).matrix_iter(border=2)
    ]
    assert light[: len(wanted)] == wanted


@pytest.mark.usefixtures("back_end")
@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM, signal.SIGHUP])
def test_an_interruption_stops_everything_and_still_reports(world: World, number: signal.Signals) -> None:
    world.write(
        {"dokimon.toml": 'format = 1\n[[run]]\nname = "boat"\ncommand = "touch up.mark; sleep 60 & sleep 60"\n'}
    )
    process = world.start("smoke", "--format", "json")
    wait_for(world.checkout / "up.mark")
    process.send_signal(number)
    out, _ = process.communicate(timeout=60)
    report = report_in(out)
    assert (process.returncode, report["interrupted"], report["runs"][0]["reason"]) == (130, True, "interrupted")
    assert not processes_of(world)


@pytest.mark.usefixtures("back_end")
@pytest.mark.parametrize("moment", [0.05, 0.6])
def test_nothing_outlives_dokimon_when_it_is_killed(world: World, moment: float) -> None:
    world.server("stubborn")
    process = world.start("smoke", "--keep")
    _wait_for_line(process, "starting")
    time.sleep(moment)
    process.kill()
    process.communicate()
    deadline = time.monotonic() + 5
    while processes_of(world) and time.monotonic() < deadline:
        time.sleep(0.05)
    assert not processes_of(world)


def test_a_terminal_sees_the_stage_the_seconds_and_the_last_line(world: World) -> None:
    text = 'format = 1\n[[run]]\nname = "boat"\nkind = "program"\ncommand = "echo mooring; sleep 1.5"\n'
    world.write({"dokimon.toml": text})
    screen, terminal = pty.openpty()
    environment = {**world.environment, "TERM": "xterm-256color"}
    dokimon = Path(sys.executable).with_name("dokimon")
    process = subprocess.Popen(
        [str(dokimon), "smoke"], cwd=world.checkout, env=environment, stdin=terminal, stdout=terminal, stderr=terminal
    )
    os.close(terminal)
    seen = b""
    while True:
        try:
            chunk = os.read(screen, 65536)
        except OSError:  # the terminal's other end is closed (Linux: EIO)
            break
        if not chunk:
            break
        seen += chunk
    os.close(screen)
    assert process.wait() == 0
    shown = re.sub(rb"\x1b\[[0-9;?]*[a-zA-Z]", b"", seen).decode()
    assert re.search(r"boat  1\.\d s  starting", shown) and "mooring" in shown and "\x1b[" in seen.decode()


@pytest.mark.real
@pytest.mark.skipif(not shutil.which("node") or not shutil.which("npm"), reason="no Node.js on this machine")
def test_a_real_node_service_behind_the_real_npm(world: World) -> None:
    server = (
        "require('http').createServer((q, r) => r.end('<title>Tides</title>High')).listen(0, () => console.log('up'))"
    )
    world.write({"package.json": '{"scripts": {"start": "node server.js"}}', "server.js": server})
    world.environment["PATH"] += f":{Path(shutil.which('node') or '').parent}:{Path(shutil.which('npm') or '').parent}"
    status, run = world.run_of()
    assert status in (0, 3) and run["kind"] == "server" and not processes_of(world), run


RUNS = """
format = 1
[[run]]
name = "folder"
command = "pwd; echo $TIDE; {python} -c 'import sys; print(sys.version_info[0])'"
in = "deep/er"
environment = { TIDE = "low" }
[[run]]
name = "stays"
command = "{python} -m http.server {port} --bind 0.0.0.0"
port = "any"
[[run]]
name = "ends"
kind = "program"
command = "sleep 9"
up = { within = "1s" }
"""


def test_runs_are_carried_out_as_dokimon_toml_says(world: World) -> None:
    world.write({"dokimon.toml": RUNS, "deep/er/x": "", "index.html": "<title>Quay</title>open"})
    status, folder = world.run_of("--run", "folder")
    assert status == 0 and folder["last_lines"] == [str(world.checkout / "deep/er"), "low", "3"]
    assert folder["source"] == {"file": "dokimon.toml", "line": 3, "text": folder["source"]["text"]}
    status, stays = world.run_of("--run", "stays")
    assert status == 0 and stays["listening"][0]["exposed"] and stays["listening"][0]["address"] == "0.0.0.0"
    drawn = world.dokimon("smoke", "--run", "stays")
    assert "other machines may reach it" in drawn.out and "“Quay”" in drawn.out
    ended = world.dokimon("smoke", "--run", "folder", "--run", "stays", "--quiet")
    assert (ended.status, ended.err) == (0, "") and ended.out.strip().endswith("passed") and ended.out.count("\n") == 1
    ended = world.dokimon("smoke", "--run", "stay")
    assert ended.status == 2 and 'no run is named "stay"; did you mean "stays"?' in ended.err
    unreachable = RUNS.replace('in = "deep/er"', 'in = "gone"')
    world.write({"dokimon.toml": unreachable})
    status, gone = world.run_of("--run", "folder")
    assert status == 1 and "there is no folder" in gone["reason"]


def test_a_program_that_does_not_end_in_time_fails(world: World) -> None:
    from dokimon.core.planning import plan
    from dokimon.core.planning.configured import Configured
    from dokimon.core.settings.read import read_settings

    world.write({"dokimon.toml": RUNS})
    manifest = open_manifest(world.checkout / "dokimon.toml", world.checkout)
    setting = plan.PlanContext(root=world.checkout, folder=world.checkout, environment=world.environment, tools={})
    made = {
        run.name: run for run in Configured(read_settings(manifest), setting, {"python": sys.executable}, {}).runs()
    }
    short = msgspec.structs.replace(made["ends"], within=0.5)
    around = RunContext(
        environment=world.environment,
        halt=threading.Event(),
        watcher=Watcher(),
        logs=Logs(world.checkout, world.environment),
        root=world.checkout,
    )
    with carry_out(short, around) as attempt:
        pass
    ended = attempt.report
    assert (ended.verdict, ended.reason) == ("failed", "did not end within 0.5 s") and ended.stopped_by == "SIGINT"
    missing = msgspec.structs.replace(short, command=("no-such-program-here",))
    with carry_out(missing, around) as attempt:
        assert not attempt.is_up
    failed = attempt.report
    assert failed.verdict == "failed" and "could not be started: no-such-program-here: No such file" in failed.reason


@pytest.mark.usefixtures("back_end")
def test_two_at_once_take_turns(world: World) -> None:
    """The second says who is at work, or waits for its turn; a holder that is killed lets go."""
    world.server()
    first = world.start("smoke", "--keep")
    wait_until_told(first, "is up at")
    ended = world.dokimon("smoke")
    assert (
        ended.status == 2
        and f"another smoke check is at work in this checkout (process {first.pid}, since" in ended.err
    )
    assert world.dokimon("verify", "--allow-none").status == 0
    patient = world.dokimon("smoke", "--wait", "100ms")
    assert patient.status == 2 and "waited 0.1 s for it" in patient.err
    assert world.dokimon("smoke", "--wait", "soon").status == 2
    waiting = world.start("smoke", "--wait", "30s", "--format", "json")
    wait_until_told(waiting, "another smoke check is at work")
    first.kill()
    first.communicate()
    assert report_in(waiting.communicate(timeout=30)[0])["verdict"] == "passed"


def wait_until_told(process: subprocess.Popen[str], text: str) -> None:
    """Read what a call says on standard error until `text` is in it."""
    assert process.stderr
    for line in process.stderr:
        if text in line:
            return
    raise AssertionError(f"it never said {text!r}")


def test_a_socket_that_a_stranger_shares_is_not_believed(world: World, free_port: int) -> None:
    """With SO_REUSEPORT two programs may hold one address: nobody can tell which of them answers."""
    shared = (
        "import http.server, socket\n"
        "class Server(http.server.ThreadingHTTPServer):\n"
        "    def server_bind(self):\n"
        "        self.socket.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEPORT, 1)\n"
        "        super().server_bind()\n"
        f"Server(('127.0.0.1', {free_port}), http.server.SimpleHTTPRequestHandler).serve_forever()\n"
    )
    text = f'format = 1\n[[run]]\nname = "shared"\ncommand = "{sys.executable} shared.py"\n'
    world.write({"shared.py": shared, "dokimon.toml": text})
    stranger = subprocess.Popen([sys.executable, str(world.checkout / "shared.py")], cwd=world.home)
    try:
        while not any(at.laddr.port == free_port for at in psutil.Process(stranger.pid).net_connections()):
            time.sleep(0.05)
        status, run = world.run_of()
        assert (status, run["verdict"]) == (3, "unsure") and "it is not known whose" in run["reason"]
    finally:
        stranger.kill()
        stranger.wait()


def test_the_free_port_is_passed_on(world: World) -> None:
    code = "import os,sys; assert os.environ['PORT'] == sys.argv[1]; print('port', sys.argv[1])"
    world.write({"say.py": code})
    text = f'format = 1\n[[run]]\nname = "say"\ncommand = "{sys.executable} say.py {{port}}"\nport = "any"\n'
    world.write({"dokimon.toml": text})
    status, run = world.run_of()
    assert status == 0 and re.fullmatch(r"port \d+", run["last_lines"][0])
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", int(run["last_lines"][0].split()[1])))
