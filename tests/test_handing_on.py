"""A report handed on: saved and drawn again, as a page, as SARIF, and without what is private."""

from __future__ import annotations

import base64
import hashlib
import json
import os
import re
from itertools import pairwise
from pathlib import Path
from typing import Any, Literal, Union, get_args, get_origin, get_type_hints

import msgspec
import pytest
import yaml
from bs4 import BeautifulSoup, Tag
from hypothesis import given
from hypothesis import strategies as st

from conftest import World
from dokimon.cli.screen.smoke import _times
from dokimon.core.report import as_json, as_markdown, as_page, as_sarif
from dokimon.core.report.model import Check, Diagnosis, Finding, Found, Prepared, Remedy, Report, Run
from dokimon.core.report.reading import LARGEST_BYTES, ReportFault, decode, read_report
from dokimon.core.report.rows import Row
from dokimon.core.report.sharing import Private, shared
from dokimon.core.report.timeline import own_seconds
from dokimon.core.source import Source

EVIL = "</code><script>alert(1)</script><img src=x onerror=alert(2)>\"'{{ 7*7 }}&amp;"


def filled(kind: Any, text: str) -> Any:
    """Return a value of any type of the report, with this text wherever text may stand."""
    origin, arguments = get_origin(kind), get_args(kind)
    if origin is Literal:
        return next(iter(arguments))
    if origin in (Union, type(int | None)):
        return filled(next(each for each in arguments if each is not type(None)), text)
    if origin is tuple:
        return (filled(arguments[0], text),)
    if origin is dict:
        return {text: filled(arguments[1], text)}
    if isinstance(kind, type) and issubclass(kind, msgspec.Struct):
        return kind(
            **{
                name: filled(each, text)
                for name, each in get_type_hints(kind).items()
                if name in kind.__struct_fields__
            }
        )
    return {str: text, int: 1, float: 1.5, bool: True}[kind]


def whole(text: str, **more: Any) -> Report:
    """Return a report that has every part there is; each text is this one."""
    report: Report = filled(Report, text)
    base: dict[str, Any] = {
        "format": "dokimon-report/1",
        "minor": 4,
        "command": "smoke",
        "interrupted": False,
        "verdict": "failed",
        "plan": None,
    }
    return msgspec.structs.replace(report, **(base | more))


def large() -> Report:
    """Return a report of 300 needs and 40 runs, most of them failed."""
    source = Source("services/harbour/package.json", 12, '"node": ">=20"')
    remedies = (Remedy("install Node.js 20 with nvm", "nvm install 20"), Remedy("for this shell alone", "nvm use 20"))
    needs = tuple(
        Finding(
            id=f"tool{number}#1", tool=f"tool{number}", wanted=">=20", accepts="20 or newer", language="npm",
            strength="required", source=source, verdict="unmet" if number % 3 else "met",
            reason="18.0.0 is too old; accepted: 20 or newer",
            found=Found(f"/usr/local/lib/tool{number}/bin/tool{number}", "18.0.0", "asked"), remedies=remedies,
        )
        for number in range(300)
    )  # fmt: skip
    checks = tuple(
        Check(name=f"GET /departures/{number}", verdict="failed", expected="200", seen="500, text/html", source=source)
        for number in range(12)
    )
    cause = Diagnosis(name="x", cause="the package tern is not installed", line="Error: tern", remedies=remedies)
    runs = tuple(
        Run(
            name=f"run{number}", command="node server.js --port 4711", kind="server", verdict="failed", reason="GET /: 500",
            source=source, url="http://localhost:4711/", up_by="its own socket answers", up_seconds=0.5, at_seconds=number,
            checked_seconds=1.0, ended_seconds=2.0, stop_seconds=0.2, checks=checks, diagnoses=(cause,),
            last_lines=("a line of its output " * 5,) * 15,
        )
        for number in range(40)
    )  # fmt: skip
    base = whole("Ferries", since_passed=None, surroundings=None, across=None, from_clone=None)
    return msgspec.structs.replace(base, requirements=needs, runs=runs, seconds=60.0)


def page(report: Report, *rows: Row) -> BeautifulSoup:
    return BeautifulSoup(as_page.encode(report, rows), "lxml")


# -- the page


def test_nothing_of_a_report_runs_in_its_page() -> None:
    report = whole(EVIL)
    text = as_page.encode(report, [filled(Row, EVIL), filled(Row, EVIL)])
    assert EVIL not in text and "<script>alert" not in text and "49" not in re.findall(r"{{.*?}}|\b49\b", text)
    read = BeautifulSoup(text, "lxml")
    (script,) = read.find_all("script")
    policy = read.find("meta", attrs={"http-equiv": "Content-Security-Policy"})
    assert isinstance(policy, Tag)
    digest = base64.b64encode(hashlib.sha256(script.text.encode()).digest()).decode()
    assert f"script-src 'sha256-{digest}'" in str(policy["content"]) and "default-src 'none'" in str(policy["content"])
    handlers = [name for each in read.find_all() for name in each.attrs if name.startswith("on")]
    assert not handlers and not read.find_all("img")


@pytest.mark.parametrize(
    "report", [whole("Ferries"), large(), whole("x", verdict="passed", command="verify", runs=None)]
)
def test_the_page_asks_nothing_of_elsewhere_and_can_be_read_by_all(report: Report) -> None:
    rows = [filled(Row, "2026-11-20T14:02:00+00:00")] * 3
    text = as_page.encode(report, [msgspec.structs.replace(row, command="smoke") for row in rows])
    assert len(text) < 1_000_000
    read = BeautifulSoup(text, "lxml")
    for each in read.find_all(["link", "img", "iframe", "script", "a", "use", "image", "object", "form", "base"]):
        for name in ("href", "src", "action", "data"):
            assert str(each.get(name, "#")).startswith("#"), each
    assert not re.search(r"url\((?!#)|@import|https?:", str(read.style))
    assert read.html and read.html.get("lang") == "en" and len(read.find_all("h1")) == 1 and read.find("main")
    levels = [int(each.name[1]) for each in read.find_all(["h1", "h2", "h3", "h4"])]
    assert all(now <= before + 1 for before, now in pairwise(levels))
    assert all(head.get("scope") for head in read.find_all("th")) and all(
        table.find("caption") for table in read.find_all("table")
    )
    ids = [each["id"] for each in read.find_all(id=True)]
    assert len(ids) == len(set(ids))
    targets = {str(each["href"])[1:] for each in read.find_all("a")} | {
        str(each["aria-labelledby"]) for each in read.find_all("section")
    }
    assert targets <= set(ids)
    assert all(each.get("aria-label") for each in read.find_all("svg", role="img"))


def test_what_the_eye_needs_comes_first() -> None:
    report = large()
    read = page(report)
    assert read.h1 and "It does not work here." in read.h1.text
    heads = [each.text for each in read.find_all("h2")]
    assert heads[:2] == ["What failed, and what to do", "Needs that are not met"]
    assert [each.text for each in read.select("pre.command code")][:2] == ["nvm install 20", "nvm use 20"]
    assert "since" not in heads[2] and read.find(string=re.compile("Likely cause")) is not None


def test_the_time_line_has_every_phase() -> None:
    step = Prepared(title="install packages", verdict="passed", reason="", at_seconds=1.0, seconds=2.0)
    run = Run(
        name="board", command="x", kind="server", verdict="passed", reason="", at_seconds=3.0, up_seconds=1.0,
        checked_seconds=1.5, ended_seconds=6.0, stop_seconds=0.5,
    )  # fmt: skip
    report = whole("x", prepared=(step,), runs=(run,), seconds=10.0, verify_seconds=0.5)
    read = page(report)
    bars = {
        str(each["class"][0]): (float(str(each["x"])[:-1]), float(str(each["width"])[:-1]))
        for each in read.select("svg rect[class]")
        if "%" in str(each["width"])
    }
    assert bars == {
        "bar-verify": (0.0, 5.0), "bar-prepare": (10.0, 20.0), "bar-start": (30.0, 10.0), "bar-check": (40.0, 5.0),
        "bar-up": (45.0, 40.0), "bar-stop": (85.0, 5.0),
    }  # fmt: skip


@pytest.mark.parametrize(
    "at, up, watched, ended, stop, own, told",
    [
        # 1 to 3 prepared, 3 to 6 up and watched, 8.5 to 9 stopped
        (3.0, 1.0, 2.0, 6.0, 0.5, 4.5, "1.00 s until up, 2.00 s watched, 0.50 s stopping"),
        # a program that ended by itself works all the time
        (3.0, None, None, 6.0, None, 2.0, "6.00 s until it ended"),
        # what overlaps counts once
        (2.0, 1.0, 2.0, 3.0, 3.0, 6.0, "1.00 s until up, 2.00 s watched, 3.00 s stopping"),
        (3.0, 20.0, None, 6.0, 20.0, 2.0, "20.00 s until up, 20.00 s stopping"),
    ],
)  # fmt: skip
def test_dokimons_own_time_is_what_the_project_did_not_take(
    at: float, up: float | None, watched: float | None, ended: float, stop: float | None, own: float, told: str
) -> None:
    step = Prepared(title="install packages", verdict="passed", reason="", at_seconds=1.0, seconds=2.0)
    run = Run(
        name="board", command="x", kind="server", verdict="passed", reason="", at_seconds=at, up_seconds=up,
        watched_seconds=watched, ended_seconds=ended, stop_seconds=stop,
    )  # fmt: skip
    report = whole("x", prepared=(step,), runs=(run,), seconds=10.0)
    assert own_seconds(report) == own
    assert _times(report, 10.0, own) == (
        f"10.00 s in all: {own:.2f} s Dokimon's own; the project: 2.00 s preparing, {told}"
    )


def test_pictures_are_taken_in_from_dokimons_own_folder_alone(tmp_path: Path) -> None:
    picture = b"\x89PNG\r\n\x1a\n" + b"x" * 100
    for name in ("logs/board.png", "elsewhere.png", "logs/text.png"):
        (tmp_path / name).parent.mkdir(exist_ok=True)
        (tmp_path / name).write_bytes(b"secret" if "text" in name else picture)
    names = ("logs/board.png", "elsewhere.png", "logs/text.png", "logs/../elsewhere.png", "logs/gone.png")
    checks = tuple(
        Check(name=name, verdict="passed", expected="", seen="", evidence=str(tmp_path / name)) for name in names
    )
    run = Run(name="board", command="x", kind="server", verdict="passed", reason="", checks=checks)
    report = whole("x", runs=(run,))
    read = BeautifulSoup(as_page.encode(report, (), tmp_path / "logs"), "lxml")
    assert [str(each["alt"]).rpartition(" ")[2] for each in read.find_all("img")] == ["logs/board.png"]
    assert not page(report).find_all("img")


# -- a saved report


@pytest.mark.parametrize("command", ["verify", "smoke", "needs", "tools", "plan"])
def test_a_saved_report_is_drawn_again_in_every_form(world: World, command: str) -> None:
    world.write({"dokimon.toml": 'format = 1\n[[need]]\ntool = "git"\n[[run]]\nname = "tides"\ncommand = "true"\n'})
    call = {"plan": ("smoke", "--show-plan"), "tools": ("tools", "git")}.get(command, (command,))
    world.dokimon(*call, "-f", "json", "-o", "report.json")
    for form in ("table", "json", "markdown", "junit", "sarif", "html"):
        again = world.dokimon("show", "report.json", "-f", form, "-o", "again")
        assert (again.status, again.err, again.out) == (0, "", "")
        text = (world.checkout / "again").read_text()
        assert text and ("git" in text.lower() or command in ("smoke", "plan") or form == "sarif")
        if form == "json":
            assert text == (world.checkout / "report.json").read_text()
    shown = world.dokimon("show", "report.json", "-f", "html")
    assert (shown.status, shown.err, shown.out) == (0, "", text)


@pytest.mark.parametrize(
    "content, says",
    [
        (b"", "is not JSON"),
        (b"{", "is not JSON"),
        (b"\xff\xfe", "is not JSON"),
        (b"[1]", "it has no key \"format\""),
        (b'{"a": 1}', "it has no key \"format\""),
        (b'{"format": "dokimon-report/2"}', "'dokimon-report/2'"),
        (b'{"format": 7}', "its format is '7'"),
        (b'{"format": "dokimon-report/1"}', "is not a whole report"),
        (b"[" * 100_000, "is not JSON"),
        (b'{"format": "dokimon-report/1", "minor": 9, "command": "launch"}', "a newer Dokimon may read it"),
    ],
)  # fmt: skip
def test_what_is_no_report_is_refused_with_a_reason(world: World, content: bytes, says: str) -> None:
    (world.checkout / "report.json").write_bytes(content)
    ended = world.dokimon("show", "report.json")
    assert (ended.status, ended.out) == (2, "") and says in ended.err and "Traceback" not in ended.err


def test_files_that_are_none_and_too_large_ones_are_refused(world: World) -> None:
    with (world.checkout / "large.json").open("wb") as file:
        file.truncate(200 * 1024 * 1024)
    os.mkfifo(world.checkout / "pipe.json")
    for name, says in (
        ("large.json", f"more than {LARGEST_BYTES >> 20} MB"), ("pipe.json", "is not a plain file"),
        ("gone.json", "No such file"), (".", "is not a plain file"),
    ):  # fmt: skip
        ended = world.dokimon("show", name)
        assert ended.status == 2 and says in ended.err, ended


def test_reports_of_other_minor_forms_are_read() -> None:
    report = whole("x")
    read = json.loads(as_json.encode(report))
    read |= {"minor": 99, "later": {"x": 1}}
    read["runs"][0]["later"] = [1]
    read["requirements"][0]["source"]["later"] = None
    found = decode(json.dumps(read).encode())
    assert found == msgspec.structs.replace(report, minor=99)
    for key in ("seconds", "since_passed", "surroundings", "made"):
        del read[key]
    assert decode(json.dumps(read).encode()).seconds is None


def test_texts_of_a_report_from_elsewhere_are_made_safe() -> None:
    report = whole("x", notes=("\x1b]0;owned\x07red\x1b[31m\n\u202e",))
    assert decode(as_json.encode(report).encode()).notes == ("red \N{REPLACEMENT CHARACTER}",)


PLAIN = st.none() | st.booleans() | st.integers() | st.text(max_size=5)
KEYS = st.sampled_from(["runs", "made", "project", "plan", "verdict", "requirements", "x"])
JSON = st.recursive(
    PLAIN, lambda each: st.lists(each, max_size=3) | st.dictionaries(KEYS, each, max_size=4), max_leaves=12
)


@given(JSON)
def test_no_json_ends_in_anything_but_a_report_or_a_reason(value: object) -> None:
    base = json.loads(as_json.encode(whole("x")))
    read = base | value if isinstance(value, dict) else value
    try:
        assert isinstance(decode(json.dumps(read).encode()), Report)
    except ReportFault as wrong:
        assert wrong.reason


def test_a_fault_names_the_file(tmp_path: Path) -> None:
    with pytest.raises(ReportFault) as wrong:
        read_report(tmp_path / "gone.json")
    assert wrong.value.file == str(tmp_path / "gone.json")


# -- SARIF


def test_what_has_a_place_is_a_result() -> None:
    report = large()
    log = json.loads(as_sarif.encode(report))
    assert log["version"] == "2.1.0" and log["$schema"].endswith("sarif-schema-2.1.0.json")
    (run,) = log["runs"]
    rules = [rule["id"] for rule in run["tool"]["driver"]["rules"]]
    results = run["results"]
    assert len(results) == 200 + 40 * 12 and {each["level"] for each in results} == {"error"}
    for each in results:
        assert rules[each["ruleIndex"]] == each["ruleId"]
        place = each["locations"][0]["physicalLocation"]
        assert place["artifactLocation"] == {"uri": "services/harbour/package.json", "uriBaseId": "%SRCROOT%"}
        assert place["region"]["startLine"] == 12
    assert len({json.dumps(each["partialFingerprints"]) for each in results}) == len(results)
    assert "- install Node.js 20 with nvm: nvm install 20" in results[0]["message"]["text"]


@pytest.mark.parametrize(
    "verdict, strength, rule, level",
    [
        ("unmet", "required", "need-unmet", "error"), ("missing", "advised", "need-missing", "note"),
        ("unknown", "required", "need-unknown", "warning"), ("off-path", "required", "need-off-path", "error"),
        ("met", "required", None, None),
    ],
)  # fmt: skip
def test_how_much_a_result_weighs(verdict: Any, strength: Any, rule: str | None, level: str | None) -> None:
    need = msgspec.structs.replace(
        large().requirements[0], verdict=verdict, strength=strength, source=Source("a dir/ä.json", 3, "")
    )
    log = json.loads(as_sarif.encode(whole("x", requirements=(need,), runs=(), prepared=(), conflicts=())))
    found = [(each["ruleId"], each["level"]) for each in log["runs"][0]["results"]]
    assert found == ([(rule, level)] if rule else [])
    if rule:
        place = log["runs"][0]["results"][0]["locations"][0]["physicalLocation"]
        assert place["artifactLocation"]["uri"] == "a%20dir/%C3%A4.json" and "snippet" not in place["region"]


# -- what is private


ANNA = {
    "HOME": "/home/anna", "USER": "anna", "HOSTNAME": "annas-laptop", "PATH": "/home/anna/bin:/usr/bin",
    "PIER": "gannet-point",
    "QUAY_URL": "http://quay.annas.example:8080/x", "CI": "true", "SHORT": "abc", "DEPTH": "12345",
}  # fmt: skip
PRIVATE = Private(ANNA, {"LOW_WATER": "ebb at midnight"}, hosts=("annas-laptop.example.org",))


@pytest.mark.parametrize(
    "text, made",
    [
        ("/home/anna/.nvm/node", "~/.nvm/node"),
        ("cd /home/anna", "cd ~"),
        ("/home/annabel/x", "~/x"),
        ("/Users/bruno/x and /home/carl: no", "~/x and ~: no"),
        ("/srv/anna/ferries by Anna", "/srv/(user)/ferries by (user)"),
        ("savannah, hosanna", "savannah, hosanna"),
        ("on annas-laptop and annas-laptop.example.org", "on (host) and (host)"),
        ("asked http://quay.annas.example:8080/x", "asked (a variable's value)"),
        ("PIER=gannet-point, not gannet-pointer", "PIER=(a variable's value), not gannet-pointer"),
        ("ebb at midnight", "(a variable's value)"),
        ("true abc 12345 /usr/bin node", "true abc 12345 /usr/bin node"),
    ],
)
def test_what_is_private_is_left_out(text: str, made: str) -> None:
    assert PRIVATE.of(text) == made


def test_nothing_private_is_left_in_any_field() -> None:
    marks = "/home/anna/x anna annas-laptop gannet-point ebb at midnight"
    made = shared(whole(marks), PRIVATE)
    # What the catalogue, git and Dokimon itself name stays: no project can put a text of its own there.
    kept = {"tool", "id", "language", "commit"}
    read = json.loads(as_json.encode(made))

    def left(value: Any, key: str = "") -> list[str]:
        if isinstance(value, dict):
            return [found for name, each in value.items() for found in (*left(name), *left(each, name))]
        if isinstance(value, list):
            return [found for each in value for found in left(each, key)]
        private = isinstance(value, str) and re.search(r"anna|gannet|midnight", value)
        return [f"{key}: {value}"] if private and key not in kept else []

    assert left(read) == []
    assert made.shared and made.surroundings and not any(made.surroundings.variables.values())
    assert made.surroundings.machine is None and not made.surroundings.listening


def test_names_that_every_machine_has_stay() -> None:
    private = Private({"HOME": "/root", "USER": "root", "HOSTNAME": "node"}, hosts=("node",))
    assert private.of("node 20 in /root/x, root of the file system") == "node 20 in ~/x, root of the file system"


def test_a_shared_report_says_nothing_of_its_user(world: World) -> None:
    world.environment |= {"USER": "seagull77", "LOGNAME": "seagull77", "QUAY_NAME": "the-inner-harbour"}
    world.server(more='environment = { PIER = "gannet-point" }\n[[need]]\nvariable = "QUAY_NAME"\n')
    world.write({".env": "LOW_WATER=ebb-at-midnight\n"})
    for form in ("json", "html", "markdown", "junit", "table", "sarif"):
        text = world.dokimon("smoke", "--share", "--format", form, "--verbose").out
        for private in (str(world.home), "seagull77", "inner-harbour", "gannet-point", "ebb-at", os.uname().nodename):
            assert private not in text, (form, private)
    report = world.dokimon("verify", "--share", "-f", "json").report
    assert "QUAY_NAME" in report["surroundings"]["variables"] and report["shared"]


def test_markdown_tells_what_changed() -> None:
    text = as_markdown.encode(whole("x|y"))
    assert "### other than when it last passed" in text and "\n- x\\|y\n" in text


def test_the_examples_for_ci_systems_can_be_carried_out(world: World) -> None:
    """Every call of Dokimon on that page, in its order; the YAML of each system is well-formed."""
    page_text = (Path(__file__).parents[1] / "docs/ci.md").read_text("utf-8")
    blocks = re.findall(r"^```(sh|yaml|groovy)\n(.*?)^```", page_text, re.MULTILINE | re.DOTALL)
    assert len(blocks) >= 6 and all(yaml.safe_load(text) for kind, text in blocks if kind == "yaml")
    world.server()
    (world.checkout / "results").mkdir()
    for _, text in blocks:
        for call in re.findall(r"dokimon ((?:smoke|show|verify)\b[^|&>'\n]*)", text):
            ended = world.dokimon(*call.split())
            assert (ended.status, "Traceback" in ended.err) == (0, False), call
