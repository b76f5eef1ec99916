"""The demo, and the sample that it leaves to play with."""

from __future__ import annotations

import json
from pathlib import Path
from xml.etree import ElementTree

import msgspec

from conftest import World
from dokimon.core.report import as_junit, as_markdown
from dokimon.core.report.as_json import SCHEMA_FILE, schema
from dokimon.core.report.model import Report


def test_the_demo_shows_everything_and_ends_well(world: World) -> None:
    ended = world.dokimon("demo")
    assert (ended.status, ended.err) == (0, ""), ended
    for shown in (
        "unmet",
        "→",
        "“Departures · Saltmarsh Ferries”",
        "2 of 2 load",
        "high water",
        "Saltmarsh Ferries: passed",
    ):
        assert shown in ended.out
    assert all(len(line) <= 100 or "its whole output: " in line for line in ended.out.splitlines())
    changed = ended.out.partition("after a change")[2]
    assert "since it last passed" in changed and "  board/__main__.py changed\n" in changed


def test_the_demo_of_a_failure_names_its_cause(world: World) -> None:
    ended = world.dokimon("demo", "--broken")
    assert ended.status == 1 and "likely cause: the environment variable TIDE_SERVICE is not set" in ended.out
    assert "shown by: KeyError: 'TIDE_SERVICE'" in ended.out and "tide-service" in ended.out


def without_browser(folder: Path) -> Path:
    """Take the rendered page out of a copy: a browser starts for seconds, where there is one."""
    settings = folder / "dokimon.toml"
    before, _, rest = settings.read_text().partition("# The rows of the board")
    settings.write_text(before + "# A change" + rest.partition("# A change")[2])
    return folder


def test_the_copy_can_be_played_with(world: World) -> None:
    assert world.dokimon("demo", "--to", "ferries").status == 0
    folder = without_browser(world.checkout / "ferries")
    status, reports = 0, []
    for arguments in (("verify",), ("smoke",), ("smoke", "--run", "tides"), ("verify", "--strict")):
        ended = world.dokimon(*arguments, "--format", "json", cwd=folder)
        reports.append(ended.report)
        status = ended.status
    assert [report["verdict"] for report in reports] == ["met", "passed", "passed", "unmet"] and status == 1
    assert [run["kind"] for run in reports[1]["runs"]] == ["server", "server", "program"]
    assert [run["name"] for run in reports[1]["runs"]] == ["tide-service", "board", "tides"]
    assert [run["name"] for run in reports[2]["runs"]] == ["tides"]
    page = folder / "board/site/index.html"
    page.write_text(page.read_text().replace("/board.js", "/gone.js"))
    ended = world.dokimon("smoke", "--run", "board", cwd=folder)
    assert ended.status == 1 and "script /gone.js" in ended.out and "status 404" in ended.out


def test_the_demo_of_devices_says_what_is_missing_or_shows_it(world: World) -> None:
    ended = world.dokimon("demo", "--devices")
    assert "stand-ins play them all" in ended.out and "emulator-5939" in ended.out
    assert "self test passed" in ended.out or "'dokimon[serial]'" in ended.out
    long = [line for line in ended.out.splitlines() if len(line) > 100 and "all that it printed" not in line]
    assert not long


def test_every_form_of_the_report_says_the_same(world: World) -> None:
    """One run, in all forms; that the program gives each of them is seen where nothing has to be started."""
    assert world.dokimon("demo", "--to", "ferries").status == 0
    folder = without_browser(world.checkout / "ferries")
    report = msgspec.json.decode(world.dokimon("smoke", "--format", "json", cwd=folder).out, type=Report)
    suites = ElementTree.fromstring(as_junit.encode(report))
    assert [suite.get("name") for suite in suites] == ["needs", "tide-service", "board", "tides"]
    assert [suite.get("failures") for suite in suites] == ["0", "0", "0", "0"] and suites[0].get("skipped") == "1"
    assert {case.get("name") for case in suites[2]} >= {"GET /", "GET /: title", "GET /: parts", "stops"}
    markdown = as_markdown.encode(report)
    assert "| GET / | 200, text/html, 519 bytes | passed |" in markdown and "### tides: passed" in markdown
    (folder / ".python-version").write_text("2.7")
    suites = ElementTree.fromstring(world.dokimon("verify", "--format", "junit", cwd=folder).out)
    assert suites[0].get("failures") == "2" and "too new" in suites[0][1][0].get("message", "")
    assert "2.7.x | `.python-version:1` |" in world.dokimon("verify", "--format", "markdown", cwd=folder).out
    assert ElementTree.fromstring(world.dokimon("needs", "--format", "junit", cwd=folder).out)[0].get("failures") == "1"
    world.tool("git", "echo git version 2.40.1")
    assert "| git | 2.40.1 |" in world.dokimon("tools", "git", "--format", "markdown").out


def test_the_schema_in_the_package_is_the_one_of_the_types() -> None:
    assert json.loads(SCHEMA_FILE.read_text("utf-8")) == json.loads(json.dumps(schema()))
