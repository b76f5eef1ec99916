"""What is said to be other than before: the cases of differences.toml, and `compare` on real checkouts."""

from __future__ import annotations

import contextlib
import json
import os
import re
import socket
import tomllib
from pathlib import Path
from typing import Any

import jsonschema
import msgspec
import pytest

from conftest import STANDINS, World, wait_for
from dokimon.core.machine.survey import Installation
from dokimon.core.records.differences import between, results_between
from dokimon.core.records.failing import Failing
from dokimon.core.records.found import step
from dokimon.core.records.ranking import ranked
from dokimon.core.records.record import Record
from dokimon.core.report import comparison
from dokimon.core.report.model import Check, Finding, Listening, Report, Run, Surroundings
from dokimon.core.report.sharing import folded
from dokimon.core.source import Source

CASES: list[dict[str, Any]] = tomllib.loads(Path(__file__).with_name("differences.toml").read_text("utf-8"))["case"]


def _need(text: str) -> Finding:
    tool, accepts, place, verdict, *kind = text.split()
    file, _, line = place.partition(":")
    fixed = {"id": f"{tool}#1", "language": "npm", "strength": "required", "kind": kind[0] if kind else "tool"}
    source = msgspec.to_builtins(Source(file, int(line), ""))
    own = {"tool": tool, "wanted": accepts, "accepts": accepts, "source": source, "verdict": verdict}
    return msgspec.convert(fixed | own, Finding)


def _side(case: dict[str, Any], side: str) -> Record:
    table = dict(case.get(side, {}))
    copies = tuple(msgspec.convert(each, Installation) for each in table.pop("installations", ()))
    needs = tuple(map(_need, table.pop("requirements", ())))
    passed = side == "before" or "failed" not in case
    port = case.get("port")
    run = Run(
        name="board",
        command=case.get("command_before", case["command"]) if side == "before" else case["command"],
        kind="server",
        verdict="passed" if passed else "failed",
        reason="it is up" if passed else "ended with exit status 1",
        last_lines=() if passed else (case["failed"],),
        listening=(Listening(address="127.0.0.1", port=port, pid=1, exposed=False),) if port else (),
    )
    report = msgspec.convert(
        {"format": "dokimon-report/1", "minor": 4, "command": "smoke", "verdict": "passed", "requirements": [],
         "project": {"root": "/srv/ferries", "name": "Ferries"}},
        Report,
    )  # fmt: skip
    report = msgspec.structs.replace(report, installations=copies, requirements=needs, runs=(run,))
    around = {"system": "linux", "architecture": "x86_64", "release": "Debian 12", "all_files": True, **table}
    return Record(report=report, surroundings=msgspec.convert(around, Surroundings))


@pytest.mark.parametrize("case", CASES, ids=[case["name"] for case in CASES])
def test_what_is_told_first(case: dict[str, Any]) -> None:
    before, after = _side(case, "before"), _side(case, "after")
    found = ranked(between(before, after, apart=False), Failing(after.report))
    told = [f"{each.weight}: {each.says}" for each in found]
    for wanted, line in zip(case["first"], told, strict=False):
        assert line.startswith(wanted), told
    assert len(told) >= len(case["first"]) and bool(told) == bool(case["first"])
    assert not any(unwanted in line for unwanted in case.get("not", ()) for line in told)
    assert case.get("more") in (None, *(each for one in found for each in one.more))
    assert ranked(between(after, after, apart=False), Failing(after.report)) == ()
    words = " ".join(told)
    assert "cause" not in words and "because" not in words


@pytest.mark.parametrize(
    "before, after, far",
    [
        ("1.2.3", "2.0.0", "major"), ("1.2.3", "1.3.0", "minor"), ("1.2.3", "1.2.4", "patch"), ("0.19.1", "0.25.0", "major"),
        ("0.1.2", "0.1.3", "patch"), (None, "1.0", "major"), ("v1.2", "v1.2.1", "patch"), ("main", "1.0", "major"),
    ],
)  # fmt: skip
def test_how_far_versions_are_apart(before: str | None, after: str | None, far: str) -> None:
    assert step(before, after) == far


def test_what_came_out_otherwise() -> None:
    check = Check(name="GET /", verdict="passed", expected="x", seen="200")
    run = Run(name="board", command="x", kind="server", verdict="passed", reason="", checks=(check,), up_seconds=1.0)
    base = _side({"command": "x"}, "before").report
    then = msgspec.structs.replace(base, runs=(run, msgspec.structs.replace(run, name="only then")))
    other = msgspec.structs.replace(check, verdict="unsure", seen="500")
    now = msgspec.structs.replace(
        base, runs=(msgspec.structs.replace(run, verdict="failed", reason="gone", checks=(other,), up_seconds=2.0),)
    )
    assert [each.says for each in results_between(then, now)] == [
        "board failed, it passed: gone",
        "board: GET / unsure: 500 (it was: 200)",
        "board was up after 2.00 s, it was 1.00 s",
    ]
    assert results_between(then, then) == []


def test_two_machines_are_compared_without_what_is_one_s_own() -> None:
    """Homes, other people's variables and what was not asked for are no differences."""
    copy = Installation(tool="node", path=folded("/home/anna/.nvm/bin/node"), reached=True, version="20.1.0")
    other = msgspec.structs.replace(copy, path=folded("/Users/bruno/.nvm/bin/node"))
    there = _side({"command": "node x", "before": {"variables": {"A": "", "PIER": ""}, "kernel": "6.1"}}, "before")
    here = _side({"command": "node x", "after": {"variables": {"B": ""}, "kernel": "6.1"}}, "after")
    need = _need("PIER is-set dokimon.toml:2 met variable")
    there = msgspec.structs.replace(
        there, report=msgspec.structs.replace(there.report, installations=(copy,), requirements=(need,))
    )
    here = msgspec.structs.replace(
        here, report=msgspec.structs.replace(here.report, installations=(other,), requirements=(need,))
    )
    assert [each.says for each in between(there, here, apart=True)] == ["the variable PIER is set there, and not here"]


# -- on real checkouts


def test_compare_says_what_is_other(world: World) -> None:
    world.server()
    world.write({"server.cfg": "1\n"})
    refused = world.dokimon("compare")
    assert refused.status == 2 and "nothing was recorded of this checkout yet" in refused.err
    assert world.dokimon("smoke").status == 0
    ended = world.dokimon("compare")
    assert ended.status == 0 and "nothing" in ended.out and "differs" in ended.out  # other tests may listen meanwhile
    world.write({"server.cfg": "2\n"})
    ended = world.dokimon("compare", "--format", "json")
    read = json.loads(ended.out)
    jsonschema.Draft202012Validator(json.loads(comparison.SCHEMA_FILE.read_text("utf-8"))).validate(read)
    told = [each["says"] for each in read["differences"] if each["group"] != "services"]
    assert ended.status == 1 and told == ["server.cfg changed"]
    assert "server.cfg changed | used |" in world.dokimon("compare", "-f", "markdown").out
    assert world.dokimon("compare", "--since", "last").status == 1
    world.dokimon("verify")
    for arguments, says in (
        (("--since", "soon"), "is no date"), (("--since", "last", "--with", "x"), "give one of them"),
        (("--with", "gone.json"), "gone.json cannot be read"), (("--with", "server.cfg"), "it is no report"),
    ):  # fmt: skip
        refused = world.dokimon("compare", *arguments)
        assert (refused.status, refused.out) == (2, ""), refused
        assert says in refused.err or "is no report" in refused.err


def test_what_fails_now_says_what_is_other_than_when_it_passed(world: World) -> None:
    script = "import os, runpy, sys\nos.environ['PIER']\nsys.argv = sys.argv[:2]\n"
    script += f"runpy.run_path('{STANDINS / 'server.py'}', run_name='__main__')\n"
    world.write({
        "board.py": script,
        "dokimon.toml": 'format = 1\n[[run]]\nname = "board"\ncommand = "python board.py {port}"\nport = "any"\n',
    })  # fmt: skip
    world.environment["PIER"] = "gannet-point"
    passed = world.dokimon("smoke")
    assert passed.status == 0 and "since it last passed" not in passed.out
    del world.environment["PIER"]
    ended = world.dokimon("smoke")
    assert ended.status == 1 and re.search(
        r"\nsince it last passed \(20\d\d-\d\d-\d\d \d\d:\d\d\):\n  the variable PIER is no longer set\n", ended.out
    )
    report = world.dokimon("smoke", "--format", "json").report
    assert report["since_passed"]["differences"][0]["weight"] == "named"
    assert "- the variable PIER is no longer set" in world.dokimon("smoke", "--format", "markdown").out
    result = world.dokimon("compare")
    assert "named by what failed\n  the variable PIER is no longer set" in result.out and result.status == 1
    world.write({"dokimon.toml": 'format = 1\n[[need]]\nvariable = "PIER"\n'})
    assert "the variable PIER is no longer set" in world.dokimon("verify").out


def test_files_of_odd_names_are_told_too(world: World) -> None:
    world.server()
    odd = world.checkout / os.fsdecode(b"\xff\xfe.py")
    for path in (odd, world.checkout / "a\nb.py", world.checkout / "e\x1b[31m.py"):
        path.write_text("x")
    world.environment["BYTES"] = os.fsdecode(b"\xff\xfe")
    os.mkfifo(world.checkout / "pipe")
    (world.checkout / "dangling").symlink_to("gone")
    (world.checkout / ".env").write_bytes(b"\xff\xfeA=1\nB=\xff\n")
    ended = world.dokimon("smoke")
    assert ended.status == 0 and "record" not in ended.err
    assert world.dokimon("compare").status == 0
    (world.checkout / "a\nb.py").unlink()
    odd.write_text("other")
    ended = world.dokimon("compare")
    assert "a b.py is gone" in ended.out and ".py changed" in ended.out and "\x1b" not in ended.out


def test_a_report_from_another_machine(world: World) -> None:
    world.server(more='[[need]]\ntool = "node"\nversion = ">=18"\n')
    world.tool("node", "echo v20.11.0")
    assert world.dokimon("smoke", "--share", "-f", "json", "-o", "theirs.json").status == 0
    (world.checkout / "theirs.json").rename(world.home / "theirs.json")
    theirs = world.home / "theirs.json"
    assert world.dokimon("compare", "--with", theirs).status == 0
    world.tool("node", "echo v18.1.0")
    ended = world.dokimon("compare", "--with", theirs)
    assert ended.status == 1 and "node 20.11.0 → 18.1.0" in ended.out
    world.dokimon("verify", "-f", "json", "-o", theirs)
    assert "their report was made without --share" in world.dokimon("compare", "--with", theirs).out


def below_those_given_by_chance() -> socket.socket:
    for port in range(21_000, 21_200):
        with contextlib.suppress(OSError):
            return socket.create_server(("127.0.0.1", port))
    raise AssertionError("no port is free")


def test_what_only_one_of_two_commands_looks_at_is_no_difference(world: World) -> None:
    """A smoke check looks at ports, all files, and what it gives to runs; verify at manifests alone."""
    need = '[[need]]\ntool = "node"\nversion = ">=18"\n'
    world.server(more=f'environment = {{ PIER = "1" }}\n{need}')
    world.write({"constraints.txt": "tern==1.2.0\n", "x.py": ""})
    world.tool("node", "echo v20.11.0")
    with below_those_given_by_chance():  # anything that listens meanwhile
        assert world.dokimon("smoke").status == 0
    world.tool("node", "echo v16.1.0")
    report = world.dokimon("verify", "-f", "json").report
    says = [each["says"] for each in report["since_passed"]["differences"]]
    assert len(says) == 1 and says[0].startswith("node 20.11.0 → 16.1.0"), says


def test_an_interrupted_smoke_check_compares_nothing(world: World) -> None:
    world.server()
    assert world.dokimon("smoke").status == 0
    mark = world.home / "up.mark"
    script = f"import pathlib, time\npathlib.Path({str(mark)!r}).touch()\ntime.sleep(60)\n"
    world.write(
        {
            "slow.py": script,
            "dokimon.toml": 'format = 1\n[[run]]\nname = "harbour"\ncommand = "python slow.py"\nkind = "server"\n',
        }
    )
    process = world.start("smoke")
    wait_for(mark)
    process.terminate()
    out, _ = process.communicate(timeout=30)
    assert process.returncode == 130 and "since it last passed" not in out
    history = world.dokimon("history").out
    assert "interrupted" in history and "2 records: all was well in 1" in history
