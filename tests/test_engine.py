"""The engine under `smoke`: runs that behave oddly, runs after others, what each printed, how each is stopped."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import Any

import psutil
import pytest

from conftest import DOKIMON, STANDINS, World, report_in


def settings(behaviour: str, port: int, more: str = "", name: str = "quay") -> str:
    command = f"{sys.executable} -S {STANDINS / 'odd.py'} {behaviour} {port}"
    return f'[[run]]\nname = "{name}"\ncommand = "{command}"\n{more}\n'


def carried_out(world: World, text: str, *arguments: str) -> tuple[int, list[dict[str, Any]]]:
    world.write({"dokimon.toml": f"format = 1\n{text}"})
    ended = world.dokimon("smoke", "--format", "json", *arguments)
    return ended.status, ended.report["runs"]


SHORT = 'up = { within = "1s" }'


@pytest.mark.usefixtures("back_end")
@pytest.mark.parametrize(
    "behaviour, more, status, verdict, says",
    [
        ("dies-when-up", 'kind = "server"\n[[smoke]]\nof = "quay"\nget = "/"\n[[run]]\nname = "slow"\ncommand = '
            '"touch go.mark; while kill -0 $(cat quay.pid); do sleep 0.02; done"\nkind = "program"\nafter = "quay"', 1,
                "failed", "after it was up"),
        ("restarts", "", 0, "passed", "it is up"),
        ("closes-its-output", "", 0, "passed", "it is up"),
        ("no-newline", 'kind = "server"\nup = { line = "ready>", within = "5s" }', 0, "passed", "it is up"),
        ("never-answers", f'kind = "server"\n{SHORT}', 1, "failed", "but did not answer over HTTP within 1 s"),
        ("half-a-response", "", 1, "failed", "GET /"),
        ("redirects-for-ever", "", 1, "failed", "more than 10 redirects"),
        ("ipv6-only", "", 0, "passed", "it is up"),
        ("unix-only", f'kind = "server"\n{SHORT}', 1, "failed", "listens only on the UNIX socket quay.sock"),
        ("daemon", "", 0, "passed", "it is up"),
        ("makes-a-file", 'kind = "server"\nup = { file = "up.mark", within = "5s" }', 0, "passed", "it is up"),
        ("slow-to-be-healthy", 'up = { get = "/health", within = "8s" }', 0, "passed", "it is up"),
        ("prints-much", 'kind = "program"\n[[smoke]]\nexit = 0\nprints = ["the last tide", "Heron Quay"]', 0, "passed",
            "exit status 0"),
        ("lingers", 'kind = "program"', 0, "passed", "exit status 0"),
    ],
)  # fmt: skip
def test_a_run_that_behaves_oddly(
    world: World, free_port: int, behaviour: str, more: str, status: int, verdict: str, says: str
) -> None:
    ended, runs = carried_out(world, settings(behaviour, free_port, more))
    assert (ended, runs[0]["verdict"], says in runs[0]["reason"]) == (status, verdict, True), runs[0]


@pytest.mark.usefixtures("back_end")
def test_what_answers_once_and_hangs_is_given_up(world: World, free_port: int, monkeypatch: Any) -> None:
    from dokimon.core.checks import http
    from dokimon.core.planning.plan import RunPlan
    from dokimon.core.processes.logs import Logs
    from dokimon.core.processes.watching import Watcher
    from dokimon.core.smoking.context import RunContext
    from dokimon.core.smoking.run.attempts import carry_out
    from dokimon.core.source import Source

    monkeypatch.setattr(http, "PAGE_SECONDS", 1.0)
    command = (sys.executable, str(STANDINS / "odd.py"), "answers-then-hangs", str(free_port))
    plan = RunPlan(name="quay", command=command, folder=world.checkout, source=Source("x", 1, ""), kind="server")
    around = RunContext(
        environment=world.environment,
        halt=threading.Event(),
        watcher=Watcher(),
        logs=Logs(world.checkout, world.environment),
        root=world.checkout,
        watched_seconds=0.1,
    )
    with carry_out(plan, around) as attempt:
        pass
    run = attempt.report
    assert run.verdict == "failed" and "no answer within 1 s" in run.reason


@pytest.mark.usefixtures("back_end")
def test_what_ignores_every_polite_signal_is_killed_and_told(world: World, free_port: int, monkeypatch: Any) -> None:
    from dokimon.core.processes import stopping
    from dokimon.core.processes.output import Output
    from dokimon.core.processes.tree import Tree

    monkeypatch.setattr(stopping, "_PATIENCE", (0.4, 0.4, 0.4))
    command = [sys.executable, str(STANDINS / "odd.py"), "ignores-all", str(free_port)]
    tree = Tree.start(command, world.checkout, world.environment, Output())
    tree.wait(0.5)
    stopped = stopping.stop(tree)
    assert [step.signal for step in stopped.steps] == ["SIGINT", "SIGTERM", "SIGKILL"] and not stopped.left_behind


@pytest.mark.parametrize("what", ["kills-its-warden", "stops-its-warden"])
def test_a_run_that_turns_on_its_warden_is_ended_all_the_same(world: World, free_port: int, what: str) -> None:
    (world.checkout / "dokimon.toml").write_text("format = 1\n" + settings(what, free_port))
    ended = world.dokimon("smoke", "--format", "json")
    (run,) = ended.report["runs"]
    assert not [each for each in psutil.process_iter() if f"quay-child-{free_port}" in " ".join(_cmdline(each))]
    if what == "kills-its-warden":
        assert ended.status == 1 and "by which Dokimon keeps the run together was killed" in run["reason"], run
    else:
        assert "could not be ended" not in run["reason"], run


def _cmdline(process: psutil.Process) -> list[str]:
    try:
        return process.cmdline()
    except psutil.Error:
        return []


WITHOUT_KILL = [shutil.which("setpriv") or "setpriv", "--bounding-set=-kill", "--inh-caps=-kill"]


@pytest.mark.skipif(
    os.getuid() != 0 or not shutil.which("setpriv"), reason="only root can make a process that it cannot kill"
)
def test_what_cannot_be_ended_is_told(world: World, free_port: int) -> None:
    """A child of another user, as a program with the setuid bit would make, and no right to signal it."""
    (world.checkout / "dokimon.toml").write_text("format = 1\n" + settings("becomes-another-user", free_port))
    command = [*WITHOUT_KILL, str(DOKIMON), "smoke", "--format", "json"]
    begun = time.monotonic()
    ended = subprocess.run(
        command, cwd=world.checkout, env=world.environment, capture_output=True, text=True, check=False
    )
    spent = time.monotonic() - begun
    left = [each for each in psutil.process_iter() if f"quay-child-{free_port}" in " ".join(_cmdline(each))]
    for each in left:
        each.kill()
    (run,) = report_in(ended.stdout)["runs"]
    assert len(left) == 1 and ended.returncode == 1 and spent < 60, ended
    assert f"these processes could not be ended: {left[0].pid} " in run["reason"], run


def _may_hide_processes() -> bool:
    tried = [["unshare", "-m", "true"]] if shutil.which("unshare") else []
    return any(subprocess.run(command, capture_output=True, check=False).returncode == 0 for command in tried)


@pytest.mark.skipif(not _may_hide_processes(), reason="no right to a mount namespace of one's own")
def test_where_no_process_can_be_seen_any_more_that_is_told(world: World, free_port: int) -> None:
    text = settings("hides-processes", free_port, 'up = { within = "1s" }')
    (world.checkout / "dokimon.toml").write_text(f"format = 1\n{text}")
    command = [shutil.which("unshare") or "", "-m", str(DOKIMON), "smoke", "--format", "json"]
    ended = subprocess.run(
        command, cwd=world.checkout, env=world.environment, capture_output=True, text=True, check=False, timeout=60
    )
    (run,) = report_in(ended.stdout)["runs"]
    for each in psutil.process_iter():
        if f"quay-child-{free_port}" in " ".join(_cmdline(each)):
            each.kill()
    assert ended.returncode == 1 and "/proc, is no longer there" in run["reason"], ended


def test_runs_after_others_find_them_up_and_know_where(world: World, free_port: int) -> None:
    asks = (
        f"{sys.executable} -c \\\"import urllib.request as u; print(u.urlopen('{{tides.url}}/').status, "
        f'{{tides.port}})\\"'
    )
    text = (
        f'[[run]]\nname = "ask"\ncommand = "{asks}"\nkind = "program"\nafter = ["tides"]\n[[smoke]]\nof = "ask"\n'
        f'prints = "200 {free_port}"\n'
    )
    status, runs = carried_out(world, text + settings("closes-its-output", free_port, name="tides"))
    assert status == 0 and [run["name"] for run in runs] == ["ask", "tides"], runs
    status, runs = carried_out(world, text + settings("closes-its-output", free_port, name="tides"), "--run", "ask")
    assert [run["name"] for run in runs] == ["ask", "tides"]  # whoever is picked brings those it comes after
    status, runs = carried_out(world, text + settings("secrets", free_port, name="tides"))
    skipped, failed = runs
    assert status == 1 and (skipped["verdict"], failed["verdict"]) == ("skipped", "failed")
    assert skipped["reason"] == "tides, which it comes after, is not up"


def test_a_program_comes_before_what_is_after_it(world: World, free_port: int) -> None:
    text = (
        '[[run]]\nname = "seed"\ncommand = "echo sown > seed.txt"\nkind = "program"\n[[run]]\nname = "reap"\n'
        'command = "cat seed.txt"\nkind = "program"\nafter = "seed"\n[[smoke]]\nof = "reap"\nprints = "sown"\n'
    )
    status, runs = carried_out(world, text)
    assert status == 0 and [run["verdict"] for run in runs] == ["passed", "passed"]


@pytest.mark.parametrize(
    "more, says",
    [
        ('after = "boat"', 'dokimon.toml:5: no run is named "boat"; known are quay'),
        ('after = "quay"', 'dokimon.toml:5: "quay" would come after itself'),
        ('up = { line = "x", get = "/" }', '"up" is known by one of "line", "file" and "get"'),
        ('up = { get = "health" }', '"get" is a path on the run itself'),
    ],
)  # fmt: skip
def test_orders_that_cannot_be(world: World, more: str, says: str) -> None:
    world.write({"dokimon.toml": "format = 1\n" + settings("warns", 1, more)})
    ended = world.dokimon("smoke")
    assert ended.status == 2 and says in ended.err, ended


def test_keys_are_sent_once_it_is_up_and_end_it(world: World) -> None:
    more = 'kind = "server"\nup = { line = "ready for keys" }\nkeys = ["r\\n", "again\\n"]\nstop = "q\\n"'
    status, (run,) = carried_out(world, settings("keys", 1, more))
    assert status == 0 and (world.checkout / "keys").read_text() == "r\nagain\nq\n"
    assert run["stopped_by"].startswith("keys") and len(run["stopping"]) == 1 and run["exit_status"] == 0


def test_a_program_that_wants_a_terminal_gets_one(world: World) -> None:
    more = 'kind = "server"\nterminal = true\nup = { line = "terminal:" }\nstop = "q\\n"'
    status, (run,) = carried_out(world, settings("asks-the-terminal", 1, more))
    assert status == 0 and run["up_by"] == "printed “terminal: True True True 120”"
    assert "bye" in Path(run["log"]).read_text()


def test_what_it_prints_is_kept_whole_with_its_secrets_masked(world: World) -> None:
    world.environment |= {"TIDE_API_KEY": "s3cret-tide", "TIDE_PLACE": "Gannet Point"}
    status, (run,) = carried_out(world, settings("secrets", 1, 'kind = "program"'))
    log = Path(run["log"])
    assert status == 1 and log.read_text() == "the key is ***, the place Gannet Point\n"
    assert log.is_relative_to(world.home / ".cache/dokimon/logs") and run["last_lines"] == [
        "the key is ***, the place Gannet Point"
    ]
    for _ in range(3):
        world.dokimon("smoke")
    assert len(list(log.parent.iterdir())) == 4
    drawn = world.dokimon("smoke").out
    assert "its whole output: ~/.cache/dokimon/logs" in drawn and "s3cret" not in drawn


def test_a_log_keeps_the_beginning_and_the_end_of_what_is_too_much(world: World) -> None:
    script = "print('first tide'); [print('x' * 99) for _ in range(80_000)]; print('last tide')"
    text = (
        f'[project]\nlargest_log = "4 MB"\n[[run]]\nname = "quay"\ncommand = "{sys.executable} much.py"\n'
        'kind = "program"\n[[smoke]]\nof = "quay"\nprints = ["first tide", "last tide"]\n'
        '[[smoke]]\nof = "quay"\nprints = "middle tide"\n[[smoke]]\nof = "quay"\nnever = "middle tide"\n'
    )
    (world.checkout / "much.py").write_text(script)
    status, (run,) = carried_out(world, text)
    log = Path(run["log"])
    kept = log.read_bytes()
    assert 3_000_000 < len(kept) < 4_000_200 and run["log_left_out"] + len(kept) > 8_000_000
    assert kept.startswith(b"first tide\n") and kept.endswith(b"last tide\n") and b"left out here" in kept
    assert [*log.parent.glob("*.end-*")] == [] and log.stat().st_mode & 0o777 == 0o600
    verdicts = [check["verdict"] for check in run["checks"]]
    assert status == 3 and verdicts == ["passed", "passed", "passed", "unsure", "unsure"], run["checks"]
    drawn = world.dokimon("smoke").out
    assert "largest_log" not in drawn and "bytes in the middle" in drawn


def test_what_the_disk_has_no_room_for_makes_a_check_unsure_and_no_failure(world: World) -> None:
    text = (
        'format = 1\n[[run]]\nname = "quay"\ncommand = "for i in $(seq 18); do head -c 200000 /dev/zero | '
        'tr \'\\\\0\' x; echo; echo tide $i; done"\nkind = "program"\n[[smoke]]\nof = "quay"\n'
        'prints = ["tide 18", "tide 5"]\n'
    )
    world.write({"dokimon.toml": text})
    limited = ["sh", "-c", 'ulimit -f 200; exec "$@"', "sh", str(DOKIMON), "smoke", "--format", "json"]
    ended = subprocess.run(
        limited, cwd=world.checkout, env=world.environment, capture_output=True, text=True, check=False
    )
    (run,) = report_in(ended.stdout)["runs"]
    seen = [(check["verdict"], check["seen"]) for check in run["checks"] if check["name"] == "prints"]
    assert seen[0] == ("passed", "“tide 18”") and seen[1][0] == "unsure" and "File too large" in seen[1][1], seen
    assert ended.returncode == 3


def test_warnings_are_counted_and_never_fail(world: World) -> None:
    status, (run,) = carried_out(world, settings("warns", 1, 'kind = "program"'))
    assert (status, run["warnings"]) == (0, 3)
    assert "3 warnings and deprecations in its output" in world.dokimon("smoke").out


def test_output_is_followed_told_apart_by_run_and_stream(world: World) -> None:
    world.write({"dokimon.toml": "format = 1\n" + settings("error-stream", 1, 'kind = "program"')})
    err = world.dokimon("smoke", "--follow").err
    assert "quay | to the one" in err and "quay ! to the other" in err


def test_the_plan_is_shown_and_nothing_is_run(world: World) -> None:
    text = '[[prepare]]\ntitle = "sow"\ncommand = "touch sown"\nmakes = ["sown"]\n' + settings(
        "warns", 1, "port = 4173"
    )
    world.write({"dokimon.toml": f"format = 1\n{text}"})
    ended = world.dokimon("smoke", "--show-plan")
    assert ended.status == 0 and not (world.checkout / "sown").exists() and ended.err == ""
    assert "sown is missing" in ended.out and "from dokimon.toml:6" in ended.out and "usually on port 4173" in ended.out
    plan = world.dokimon("smoke", "--show-plan", "--format", "json").report["plan"]
    assert plan["prepare"][0]["needed"] == "sown is missing" and plan["runs"][0]["port"] == 4173
    ended = world.dokimon("smoke", "--no-prepare")
    assert "left out, though it is needed: sown is missing" in ended.out and not (world.checkout / "sown").exists()


def test_one_project_in_several_ways(world: World) -> None:
    world.write({name: f"package main\nfunc main() {{ println({i}) }}\n" for i,
        name in enumerate(("cmd/low/main.go", "cmd/high/main.go"))})  # fmt: skip
    world.write({"go.mod": "module tides\n"})
    world.tool("go", 'case $1 in version) echo go version go1.22;; *) echo "ran $2";; esac')
    ended = world.dokimon("smoke")
    assert ended.status == 0 and "ran ./cmd/high" in ended.out and "other ways to start it: --run low" in ended.out
    report = world.dokimon("smoke", "--all-runs", "--format", "json").report
    assert [(run["name"], run["last_lines"]) for run in report["runs"]] == [
        ("high", ["ran ./cmd/high"]),
        ("low", ["ran ./cmd/low"]),
    ]


def test_a_failure_is_diagnosed_with_what_dokimon_knows_itself(world: World, free_port: int) -> None:
    world.tool("tidectl", "echo 1", world.home / ".local/bin")
    _status, (run,) = carried_out(world, '[[run]]\nname = "quay"\ncommand = "tidectl --serve"\n')
    (diagnosis,) = run["diagnoses"]
    assert diagnosis["name"] == "command-not-found" and diagnosis["cause"] == "the command tidectl is not found"
    assert diagnosis["remedies"][0]["command"] == 'export PATH="$HOME"/.local/bin:"$PATH"'
    code = f"import socket; socket.create_server(('127.0.0.1', {free_port}))"
    world.write({"taken.py": code})
    import socket

    with socket.create_server(("127.0.0.1", free_port)):
        # The message names no port: who holds the expected one is told by the run itself.
        _, (run,) = carried_out(
            world, f'[[run]]\nname = "quay"\ncommand = "{sys.executable} taken.py"\nport = {free_port}\n'
        )
    assert run["diagnoses"][0]["name"] == "port-in-use" and run["strangers"][0]["pid"] == os.getpid()


def test_a_failed_step_is_diagnosed(world: World) -> None:
    text = '[[prepare]]\ncommand = "echo error: externally-managed-environment; exit 1"\n' + settings("warns", 1)
    world.write({"dokimon.toml": f"format = 1\n{text}"})
    report = world.dokimon("smoke", "--format", "json").report
    assert report["prepared"][0]["diagnoses"][0]["name"] == "system-python"
    assert "likely cause: packages must not be installed into the system's Python" in world.dokimon("smoke").out
