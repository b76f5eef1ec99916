"""Each kind of check through the program: what passes, what fails, and what nobody can tell."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import threading
import zipfile
from importlib.util import find_spec
from pathlib import Path
from typing import Any

import msgspec
import pytest

from conftest import STANDINS, World, report_in
from dokimon.core.checks.context import CheckContext
from dokimon.core.checks.window import Window
from dokimon.core.machine.asking import Asker
from dokimon.core.processes.display import VirtualDisplay
from dokimon.core.processes.output import Output
from dokimon.core.reading.manifest import Manifest
from dokimon.core.settings.read import read_settings

Expected = dict[str, tuple[str, str]]
"""By the full name of a check: its verdict, and a part of what was seen."""


def carried_out(world: World, text: str) -> tuple[int, dict[str, dict[str, Any]], dict[str, Any]]:
    """Smoke-check with these settings; return the status, the checks by their full names, and the report."""
    world.write({"dokimon.toml": "format = 1\n" + text})
    ended = world.dokimon("smoke", "--format", "json")
    assert ended.out, ended
    report = report_in(ended.out)
    checks = {}
    for check in [each for run in report["runs"] for each in run["checks"]] + report.get("checks", []):
        name = f"{check['part_of']}: {check['name']}" if "part_of" in check else check["name"]
        checks[name] = check
    return ended.status, checks, report


def harbour(smokes: str, behaviours: str = "") -> str:
    """Settings with the stand-in server as a run, and these checks; `#` begins each with its name."""
    command = f"{sys.executable} {STANDINS / 'server.py'} {{port}} {behaviours}"
    made = "".join(
        f'[[smoke]]\nname = "{part.split(chr(10), 1)[0].strip()}"\n{part.split(chr(10), 1)[1]}\n'
        for part in smokes.split("\n#")[1:]
    )
    return f'[[run]]\nname = "harbour"\ncommand = "{command}"\nport = "any"\n{made}'


def assert_seen(checks: dict[str, dict[str, Any]], expected: Expected) -> None:
    for name, (verdict, seen) in expected.items():
        assert name in checks, (name, sorted(checks))
        assert checks[name]["verdict"] == verdict and seen in checks[name]["seen"], checks[name]


HTTP = """
#log in
request = "POST /login"
json = { name = "gull" }
status = "2xx"
take = { token = { at = "/session/token" } }
#look
get = "/me"
headers = { X-Token = "{token}" }
shows = "Captain"
#values
get = "/boats.json"
type = "application/json"
size = "> 20, < 1 kB"
within = "5s"
again_within = "5s"
answer_headers = { Content-Type = { pattern = "json" } }

[smoke.holds]
"/boats/0/name" = "Spoonbill"
"/boats/0/berth" = { number = ">= 1, < 4" }
"/version" = { version = "~1.4" }
"/open" = true
#wrong values
get = "/boats.json"
holds = { "/boats/0/name" = "Tern", "/boats/7/name" = "x", "/open" = false }
#moved
get = "/moved"
lands = "/table"
#not followed
get = "/moved"
follow = false
status = 302
#no json
get = "/table"
holds = { "/x" = 1 }
#nobody
get = "/nowhere"
#third time
get = "/third"
retries = 4
pause = "20ms"
"""


def test_http(world: World) -> None:
    world.write({"page.txt": "on its way"})
    text = harbour(HTTP.replace("~1.4", ">=1.4, <2"))
    status, checks, report = carried_out(world, text)
    expected: Expected = {
        "log in": ("passed", "200"),
        "log in: takes token": ("passed", "6 characters"),
        "look": ("passed", "200"),
        "values: size": ("passed", "bytes"),
        "values: time again": ("passed", "again"),
        "values: header Content-Type": ("passed", "json"),
        "values: /boats/0/berth": ("passed", "2"),
        "values: /version": ("passed", "1.4.0"),
        "wrong values: /boats/0/name": ("failed", "“Spoonbill”"),
        "wrong values: /boats/7/name": ("failed", "a list of 1 has no"),
        "wrong values: /open": ("failed", "true"),
        "moved: lands": ("passed", "/table"),
        "not followed": ("passed", "302"),
        "no json: values": ("failed", "it is not JSON"),
        "nobody": ("failed", "nothing is routed here"),
        "third time": ("passed", "only at attempt 3"),
    }
    assert_seen(checks, expected)
    assert status == 1 and checks["third time"]["attempts"] == 3
    assert [checks[name].get("grade") for name in ("nobody", "look")] == ["answers", "serves what is expected"]
    assert report["runs"][0]["facts"] == [{"name": "token", "value": "***"}]


def test_what_passed_only_when_tried_again_is_unsure_where_one_is_strict(world: World) -> None:
    world.write({"dokimon.toml": "format = 1\n" + harbour('\n#third\nget = "/third"\nretries = 4\npause = "20ms"')})
    assert [world.dokimon("smoke", *more).status for more in ((), ("--strict",))] == [0, 3]


PAGE = """
#elements
get = "/table"
elements = { "tr" = 2, "td" = "07:40", ".v" = { version = ">=1.4, <2" }, "table" = { number = "= 1" } }
hides = "Traceback"
#patterns
get = "/table"
shows = { pattern = '\\d\\d:\\d\\d' }
#endless pattern
get = "/long"
shows = { pattern = "(?:a|aa)+c[0-9]" }
#missing
get = "/table"
elements = { "tr" = 3, "h1" = "Harbour" }
hides = "08:15"
#error page
get = "/debug"
#parts
get = "/parts"
"""


def test_page(world: World) -> None:
    _, checks, _ = carried_out(world, harbour(PAGE))
    expected: Expected = {
        "elements: element tr": ("passed", "2 elements"),
        "elements: element td": ("passed", "07:40"),
        "elements: element .v": ("passed", "v1.4.0"),
        "elements: element table": ("passed", "1 element"),
        "elements: no text": ("passed", "is not there"),
        "patterns: text": ("passed", "07:40"),
        "missing: element tr": ("failed", "2 elements"),
        "missing: element h1": ("failed", "no such element"),
        "missing: no text": ("failed", "08:15"),
        "error page: no error page": ("failed", "Django's error page"),
        "parts: parts": ("unsure", "2 of 4 load (1 style, 2 images, 1 font)"),
        "parts: image /gone.png": ("unsure", "404"),
        "parts: font /x.woff2": ("unsure", "a page, not a font"),
    }
    assert_seen(checks, expected)
    assert_seen(checks, {"endless pattern: text": ("unsure", "simplify")})


def test_the_error_page_of_a_failing_server_is_named(world: World) -> None:
    _, checks, _ = carried_out(world, harbour("", "debugs"))
    assert_seen(checks, {"GET /: no error page": ("failed", "Django's error page: “KeyError”")})


def test_a_selector_that_is_none_is_the_files_fault(world: World) -> None:
    world.write({"dokimon.toml": "format = 1\n" + harbour('\n#x\nget = "/"\nelements = { "tr >> [" = 1 }')})
    ended = world.dokimon("smoke")
    assert ended.status == 2 and "dokimon.toml:6:" in ended.err and "is not a CSS selector" in ended.err


CONSOLE = """
#says
prints = ["Harbour office", { pattern = 'ready: http\\S+' }]
in_order = true
#wrong order
prints = ["is ready", "Harbour office"]
in_order = true
within = "200ms"
#fog
never = "fog"
#no ice
never = "ice floe"
within = "300ms"
"""


def test_console(world: World) -> None:
    status, checks, _ = carried_out(world, harbour(CONSOLE))
    expected: Expected = {
        "says": ("passed", "Harbour office"),
        "says: prints": ("passed", "Harbour is ready"),
        "wrong order: prints": ("failed", "only before it"),
        "fog": ("failed", "a warning of fog"),
        "no ice": ("passed", "is not there"),
    }
    assert_seen(checks, expected)
    assert status == 1
    whole = '[[run]]\nname = "tides"\ncommand = "printf \'a\\nb\\n\'"\n[[smoke]]\n'
    for output, verdict, seen in (
        ('"a\\nb"', "passed", "2 lines"),
        ('"a\\nc"', "failed", "line 2: “b”"),
        ('{ pattern = "a[^z]*" }', "passed", ""),
    ):
        status, checks, _ = carried_out(world, whole + f"output = {output}\nexit = 0\n")
        assert_seen(checks, {"output": (verdict, seen), "ends": ("passed", "exit status 0")})


def test_an_output_in_which_a_pattern_takes_for_ever_is_unsure(world: World) -> None:
    prints = 'prints = { pattern = "(?:a|aa)+c[0-9]" }\n'
    text = (
        f'[[run]]\nname = "tides"\ncommand = "cat long.txt"\n[[smoke]]\nexit = 0\n{prints}[[smoke]]\n'
        f'name = "command"\ncommand = "cat long.txt"\n{prints}'
    )
    world.write({"long.txt": "a" * 60 + "b\n"})
    status, checks, _ = carried_out(world, text)
    assert_seen(checks, {"prints": ("unsure", "simplify"), "command: prints": ("unsure", "simplify")})
    assert status == 3


def test_a_program_nobody_describes_is_looked_at_all_the_same(world: World) -> None:
    for command, status, seen in (
        ("true", 3, "so what it did is not known"),
        ("echo high water", 0, "1 line"),
        ("echo 'Traceback (most recent call last):'; echo KeyError", 1, "Traceback"),
    ):
        ended, checks, _ = carried_out(world, f'[[run]]\nname = "tides"\ncommand = "{command}"\n')
        assert ended == status and seen in checks["output"]["seen"], checks


FACTS = """
#printed
fact = "version"
printed = 'office (\\S+),'
version = ">=1.4, <2"
same_as = { file = "package.json", at = "/version" }
#served
fact = "berth"
get = "/boats.json"
at = "/boats/0/berth"
number = "<= 3"
#on the page
fact = "shown"
get = "/table"
element = ".v"
is = "v1.4.0"
same_as = { fact = "version" }
#in a file
fact = "flash"
file = "board.txt"
pattern = "flash=(.*)"
size = "= 4 MB"
#marked
fact = "mark"
file = "board.txt"
pattern = "build=(.*)"
without = "modified"
#the clock
fact = "clock"
file = "board.txt"
pattern = "clock=(.*)"
clock = "60s"
#nobody said
fact = "depth"
printed = 'depth (\\d+)'
within = "100ms"
#another run's
fact = "version of the other"
get = "/boats.json"
at = "/version"
same_as = { fact = "version", of = "elsewhere" }
#outside
fact = "passwd"
file = "../../etc/passwd"
"""


def test_facts(world: World) -> None:
    world.tool("node", "echo v20.11.1")
    world.tool("npm", "echo 10.2.4")
    world.write(
        {
            "package.json": '{"version": "1.4.0"}',
            "board.txt": "flash=4MB\nbuild=7-modified\nclock=2001-01-01T00:00:00\n",
        }
    )
    status, checks, report = carried_out(world, harbour(FACTS))
    expected: Expected = {
        "printed": ("passed", "“1.4.0”"),
        "served": ("passed", "2"),
        "on the page": ("passed", "“v1.4.0”"),
        "in a file": ("passed", "“4MB”"),
        "marked": ("failed", "“7-modified”"),
        "the clock": ("failed", "s off"),
        "nobody said": ("failed", "nothing matches"),
        "another run's": ("unsure", "elsewhere has not found “version” before"),
        "outside": ("failed", "is outside the checkout"),
    }
    assert_seen(checks, expected)
    told = {fact["name"]: fact["value"] for fact in report["runs"][0]["facts"]}
    assert status == 1 and told["version"] == "1.4.0" and told["berth"] == "2"


@pytest.mark.parametrize("second, verdict", [("v1.4.0", "passed"), ("1.5.0", "failed")])
def test_facts_of_two_runs_are_compared(world: World, second: str, verdict: str) -> None:
    text = "".join(
        f'[[run]]\nname = "{name}"\ncommand = "echo tides {version}"\nkind = "program"\n{more}'
        f'[[smoke]]\nof = "{name}"\nname = "{name} says"\nfact = "version"\nprinted = "tides (.*)"\n{same}'
        for name, version, more, same in (
            ("first", "1.4.0", "", ""),
            ("second", second, 'after = "first"\n', 'same_as = { fact = "version", of = "first" }\n'),
        )
    )
    status, checks, _ = carried_out(world, text)
    assert checks["second says"]["verdict"] == verdict and status == (verdict == "failed")
    assert "the same as version of first" in checks["second says"]["expected"]


def test_artefacts(world: World) -> None:
    build = (
        "mkdir -p dist; cp /bin/true dist/tides; printf x > dist/board.js; : > dist/empty.js; touch -d 2001-01-01 "
        "dist/old.txt; "
        "printf old > dist/old.txt; touch -d 2001-01-01 dist/old.txt; cp index.html dist/; cp z.zip dist/"
    )
    with zipfile.ZipFile(world.checkout / "z.zip", "w") as archive:
        archive.writestr("app/main.js", "x")
    (world.checkout / "link.bin").symlink_to("/bin/true")
    world.write({"src/board.ts": "x", "index.html": "<!doctype html><script src=/board.js></script><img src=gone.png>"})
    machine = os.uname().machine
    wanted = {
        "elf": f'built = "dist/tides"\nkind = "elf"\nmachine = "{machine}"\nsize = "> 1 kB, < 10 MB"',
        "js": 'built = "dist/*.js"',
        "stale": 'built = "dist/old.txt"\nnewer_than = ["src"]\nkind = "png"',
        "fresh": 'built = "dist/board.js"\nnewer_than = ["src"]',
        "zip": 'built = "dist/z.zip"\nkind = "zip"\nentries = ["app/*.js", "no/*"]',
        "bundle": 'built = "dist/index.html"\nparts = true',
        "gone": 'built = "dist/none.bin"',
        "out": 'built = "link.bin"',
        "nothing to compare": 'built = "dist/tides"\nnewer_than = ["nowhere"]',
    }
    smokes = "".join(f'[[smoke]]\nname = "{name}"\n{text}\n' for name, text in wanted.items())
    _, checks, _ = carried_out(world, f'[[run]]\nname = "build"\nkind = "program"\ncommand = "{build}"\n{smokes}')
    expected: Expected = {
        "elf": ("passed", "dist/tides"),
        "elf: kind": ("passed", "is elf"),
        "elf: machine": ("passed", machine),
        "elf: size": ("passed", "bytes"),
        "js": ("failed", "dist/empty.js is empty"),
        "stale: current": ("failed", "dist/old.txt is older than src/board.ts"),
        "stale: kind": ("failed", "is text"),
        "fresh: current": ("passed", "the newest of them"),
        "zip: entries": ("failed", "0 of 1 entries"),
        "bundle: parts": ("failed", "names gone.png, which is not there"),
        "gone": ("failed", "no such file"),
        "out": ("failed", "no such file"),
        "nothing to compare: current": ("unsure", "there is nothing at nowhere"),
    }
    assert_seen(checks, expected)


def test_exposure_services_commands_and_what_is_needed(world: World) -> None:
    smokes = """
#loopback
listens = ["127.0.0.1:{port}"]
#elsewhere
listens = ["[::1]:{port}"]
#its own service
service = "http"
port = "{port}"
#no database
service = "mariadb"
port = 9
#wrong product
service = "redis"
port = "{port}"
#unknown product
service = "tidelog"
port = "{port}"
#command
command = "echo $WORD at {url}"
environment = { WORD = "moored" }
prints = "moored at http"
#failing command
command = "echo aground; exit 4"
#long command
command = "sleep 30"
within = "200ms"
#needed
get = "/"
title = "Lighthouse"
needed = true
#after it
get = "/"
"""
    status, checks, _ = carried_out(world, harbour(smokes))
    expected: Expected = {
        "loopback": ("passed", "127.0.0.1"),
        "elsewhere": ("failed", "not meant: 127.0.0.1"),
        "its own service": ("passed", "Tidehouse"),
        "no database": ("failed", "nothing answers"),
        "wrong product": ("unsure", "its answer is not that of Redis"),
        "unknown product": ("unsure", "does not know the protocol"),
        "command": ("passed", "exit status 0"),
        "failing command": ("failed", "exit status 4: “aground”"),
        "long command": ("failed", "did not end within 0.2 s"),
        "after it": ("skipped", "“needed” is needed"),
    }
    assert_seen(checks, expected)
    assert status == 1


def git(folder: Path, *arguments: str) -> None:
    identity = ["-c", "user.name=Gull", "-c", "user.email=gull@example.invalid"]
    subprocess.run(["git", *identity, *arguments], cwd=folder, check=True, capture_output=True)


@pytest.mark.skipif(shutil.which("git") is None, reason="git is not here")
def test_what_is_left_in_the_checkout(world: World) -> None:
    (world.checkout / ".git").rmdir()
    git(world.checkout, "init", "-q")
    run = (
        '[[run]]\nname = "tides"\nkind = "program"\ncommand = "echo x > new.txt; echo y >> old.txt; echo z > built.o"\n'
    )
    world.write({"old.txt": "old", ".gitignore": "*.o\n", "dokimon.toml": "format = 1\n" + run})
    git(world.checkout, "add", "-A")
    git(world.checkout, "commit", "-qm", "first")
    status, _, report = carried_out(world, run)
    assert status == 0 and report["changed_files"] == ["new.txt", "old.txt"]
    assert "made or changed, and not ignored by git: old.txt" in world.dokimon("smoke").out
    (world.checkout / "new.txt").unlink()
    for leaves, verdict in (("[]", "failed"), ('["*.txt"]', "passed")):
        status, checks, _ = carried_out(world, run + f"[[smoke]]\nleaves = {leaves}\n")
        assert checks["leaves the checkout as it was"]["verdict"] == verdict and status == (verdict == "failed")
    shutil.rmtree(world.checkout / ".git")
    (world.checkout / ".git").mkdir()
    status, checks, _ = carried_out(world, run + "[[smoke]]\nleaves = []\n")
    assert checks["leaves the checkout as it was"]["verdict"] == "unsure" and status == 3


CHANGES = """
#shown
change = "page.txt"
replace = "Boats"
by = "Ferries"
get = "/file"
within = "5s"
#never shown
change = "page.txt"
replace = "Boats"
by = "Ferries"
get = "/table"
within = "300ms"
#there before
change = "page.txt"
replace = "Boats"
by = "go"
get = "/file"
#no such text
change = "page.txt"
replace = "Trains"
by = "x"
#no such file
change = "gone.txt"
replace = "x"
by = "y"
#a link out
change = "out.txt"
replace = "x"
by = "y"
#binary
change = "data.bin"
replace = "x"
by = "y"
"""


def test_live_changes(world: World) -> None:
    (world.checkout / "out.txt").symlink_to("/etc/hostname")
    world.write({"page.txt": "Boats go\r\nBoats come", "data.bin": b"x\0y"})
    shutil.rmtree(world.checkout / ".git")
    world.write({"dokimon.toml": ""})
    _, checks, _ = carried_out(world, harbour(CHANGES))
    expected: Expected = {
        "shown": ("passed", "the file is as it was"),
        "never shown": ("failed", "not shown after"),
        "there before": ("unsure", "before anything was changed"),
        "no such text": ("failed", "is not in page.txt"),
        "no such file": ("failed", "there is no file gone.txt"),
        "a link out": ("failed", "is outside the checkout"),
        "binary": ("failed", "is not text"),
    }
    assert_seen(checks, expected)
    assert (world.checkout / "page.txt").read_bytes() == b"Boats go\r\nBoats come"
    assert not [*world.home.rglob("*.was")]


RESTARTING = """
import http.server, os, subprocess, sys, time
if sys.argv[2:]:
    text, seen = open("page.txt", "rb").read(), os.stat("page.txt").st_mtime_ns
    class Handler(http.server.BaseHTTPRequestHandler):
        def do_GET(self):
            self.send_response(200); self.end_headers(); self.wfile.write(text)
    server = http.server.HTTPServer(("127.0.0.1", int(sys.argv[1])), Handler)
    server.timeout = 0.05
    while os.stat("page.txt").st_mtime_ns == seen:
        server.handle_request()
else:
    while True:
        subprocess.run([sys.executable, *sys.argv, "child"])
        time.sleep(0.3)
"""


def test_a_live_change_that_needs_a_restart_says_so(world: World) -> None:
    (world.checkout / ".git").rmdir()
    world.write({"page.txt": "Boats go", "serve.py": RESTARTING})
    run = f'[[run]]\nname = "quay"\ncommand = "{sys.executable} serve.py {{port}}"\nport = "any"\n'
    change = '[[smoke]]\nname = "change"\nchange = "page.txt"\nreplace = "Boats"\nby = "Ferries"\n'
    _, checks, _ = carried_out(world, run + change)
    assert_seen(checks, {"change": ("passed", "with a restart; the file is as it was")})


@pytest.mark.skipif(shutil.which("git") is None, reason="git is not here")
def test_a_file_with_changes_of_ones_own_is_not_touched_unless_told(world: World) -> None:
    (world.checkout / ".git").rmdir()
    git(world.checkout, "init", "-q")
    change = '\n#change\nchange = "page.txt"\nreplace = "Boats"\nby = "Ferries"\nget = "/file"\n'
    world.write({"page.txt": "Boats"})
    _, checks, _ = carried_out(world, harbour(change))
    assert_seen(checks, {"change": ("skipped", "dirty = true changes it all the same")})
    _, checks, report = carried_out(world, harbour(change + "dirty = true\n"))
    assert_seen(checks, {"change": ("passed", "shown after")})
    assert "changed_files" not in report  # it is byte for byte what it was
    git(world.checkout, "add", "page.txt")
    git(world.checkout, "commit", "-qm", "first")
    _, checks, _ = carried_out(world, harbour(change))
    assert_seen(checks, {"change": ("passed", "shown after")})


@pytest.mark.parametrize("present", [True, False])
def test_targets(world: World, present: bool) -> None:
    lister = world.tool("devices", 'echo "List of devices"; cat attached 2>/dev/null')
    starter = world.tool("emulate", 'sleep 0.5; printf "pier-1 device\\nquay-2 device\\n" > attached; sleep 60')
    start = f', start = "{starter.name}"' if present else ""
    text = (
        '[[run]]\nname = "app"\nkind = "program"\ncommand = "echo on {target}"\n'
        f'target = {{ list = "{lister.name}", line = "^(\\\\S+) device$", within = "3s", each = true{start} }}\n'
        '[[smoke]]\nprints = { pattern = "on (pier-1|quay-2)" }\n'
    )
    status, checks, report = carried_out(world, text)
    if present:
        assert status == 0 and [run["name"] for run in report["runs"]] == ["app@pier-1", "app@quay-2"]
        assert "started by emulate" in checks["target in devices"]["seen"]
    else:
        assert status == 1 and "shows none" in checks["target in devices"]["seen"]


@pytest.mark.skipif(find_spec("serial") is None, reason="pyserial is not installed")
def test_a_serial_console(world: World) -> None:
    assert world.dokimon("demo", "--devices", "--to", "devices").status == 0
    folder = world.checkout / "devices"
    settings = folder / "dokimon.toml"
    ended = world.dokimon("smoke", "--run", "buoy", "--format", "json", cwd=folder)
    (run,) = ended.report["runs"]
    assert ended.status == 0 and run["facts"][2]["value"] == "4MB", run
    settings.write_text(settings.read_text().replace("--flash 4MB", "--flash 2MB"))
    ended = world.dokimon("smoke", "--run", "buoy", "--format", "json", cwd=folder)
    (wrong,) = [check for check in ended.report["runs"][0]["checks"] if check["name"] == "flash size"]
    assert ended.status == 1 and (wrong["seen"], wrong["expected"]) == ("“2MB”", "= 4 MB")
    for serial, status, says in (
        ('port = "buoy.tty", until = "buoy ready"', 0, "exit status 0"),
        ('port = "buoy.tty", until = "never said", listen = "1s"', 1, "exit status 5"),
        ('port = "other.tty", listen = "1s"', 1, "exit status"),
    ):
        command = "" if "other" in serial else 'command = "{python} -m buoy --port buoy.tty"\n'
        settings.write_text(f'format = 1\n[[run]]\nname = "buoy"\n{command}serial = {{ {serial} }}\n')
        ended = world.dokimon("smoke", cwd=folder)
        assert ended.status == status and says in ended.out, ended


def with_xvfb(world: World) -> None:
    (world.tools / "Xvfb").symlink_to(shutil.which("Xvfb") or "")


HAS_DISPLAY = shutil.which("Xvfb") and find_spec("Xlib") and find_spec("PIL") and find_spec("tkinter")


@pytest.mark.skipif(not HAS_DISPLAY, reason="needs Xvfb, python-xlib, Pillow and Tk")
def test_a_window(world: World) -> None:
    with_xvfb(world)
    program = (
        "import signal, tkinter\nsignal.signal(signal.SIGINT, signal.SIG_DFL)\nw = tkinter.Tk()\n"
        "w.title('Quay display')\nw.geometry('200x100')\n{}\nw.after(20000, w.destroy)\nw.mainloop()\n"
    )
    world.write({"lit.py": program.format("tkinter.Label(w, text='07:40').pack()"), "dark.py": program.format("")})
    for script, title, verdict, seen in (
        ("lit", "Quay display", "passed", "200 by 100"),
        ("dark", "Quay display", "failed", "all of it is one colour"),
        ("lit", "Night watch", "failed", "the windows are “Quay display”"),
    ):
        text = (
            f'[[run]]\nname = "display"\ncommand = "{sys.executable} {script}.py"\n[[smoke]]\n'
            f'window = "{title}"\nwithin = "3s"\n'
        )
        _, checks, report = carried_out(world, text)
        (found,) = [check for name, check in checks.items() if name.startswith("window")]
        assert (found["verdict"], seen in found["seen"]) == (verdict, True), report
        assert verdict == "failed" or Path(found["evidence"]).read_bytes().startswith(b"\x89PNG")


@pytest.mark.skipif(not HAS_DISPLAY, reason="needs Xvfb, python-xlib, Pillow and Tk")
def test_a_program_with_a_window_is_looked_at_without_a_word(world: World) -> None:
    """It fails for want of a display, gets one that nobody sees, and is stopped as no terminal would."""
    with_xvfb(world)
    text = (
        "import tkinter\nif __name__ == '__main__':\n    w = tkinter.Tk()\n    tkinter.Label(w, text='07:40').pack()\n"
    )
    world.write({"main.py": f"{text}    w.mainloop()\n"})
    status, run = world.run_of()
    assert status == 0 and [check["name"] for check in run["checks"]] == ["window", "stops"], run
    assert run["stopped_by"] == "SIGTERM" and run["stop_seconds"] < 5


@pytest.mark.skipif(not HAS_DISPLAY, reason="needs Xvfb, python-xlib, Pillow and Tk")
def test_on_a_display_of_others_only_the_own_window_counts(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    """A program without a window stays unsure, though there are windows; what the X server knows tells them apart."""
    display = VirtualDisplay.start(world.environment | {"PATH": os.environ["PATH"]}, threading.Event())
    assert display
    try:
        monkeypatch.setenv("DISPLAY", display.name)
        draws = "import tkinter\nw = tkinter.Tk()\ntkinter.Label(w, text='x').pack()\nw.update()\nprint(flush=True)\ninput()"
        with subprocess.Popen([sys.executable, "-c", draws], stdin=subprocess.PIPE, stdout=subprocess.PIPE) as other:
            assert other.stdout and other.stdout.readline()
            context = CheckContext(
                name="x", root=world.checkout, environment={**os.environ}, halt=threading.Event(), output=Output(), facts={},
                evidence=lambda _: None, listening=lambda: (), asker=Asker({}, world.checkout), display=display.name,
                processes=lambda: [os.getpid()],
            )  # fmt: skip
            (missed,) = Window(within="1s").look(context)
            (found,) = Window(within="9s").look(msgspec.structs.replace(context, processes=lambda: [other.pid]))
            other.kill()
    finally:
        display.close()
    assert (missed.verdict, found.verdict) == ("failed", "passed"), (missed, found)


def test_a_page_that_cannot_be_rendered_here_is_skipped_with_a_remedy(world: World) -> None:
    world.environment["PATH"] = str(world.tools)
    world.tool("sh", 'exec /bin/sh "$@"')
    status, checks, _ = carried_out(world, harbour('\n#rendered\nrender = "/shell"\n'))
    assert checks["rendered"]["verdict"] == "skipped" and "no Chromium is installed" in checks["rendered"]["seen"]
    assert status == 0


HAS_BROWSER = (shutil.which("chromium") or shutil.which("google-chrome")) and find_spec("playwright")


@pytest.mark.skipif(not HAS_BROWSER, reason="needs Chromium and Playwright")
def test_a_rendered_page(world: World) -> None:
    smokes = """
#rendered
render = "/shell"
title = "Board"
shows = "drawn by a script"
elements = { "#app p" = 1 }
#broken
render = "/broken.html"
shows = "never drawn"
within = "500ms"
"""
    _, checks, _ = carried_out(world, harbour(smokes, "draws"))
    expected: Expected = {
        "rendered": ("passed", "“Board”"),
        "rendered: text": ("passed", "drawn by a script"),
        "rendered: element #app p": ("passed", "1 element"),
        "rendered: console errors": ("passed", "none"),
        "broken: console errors": ("failed", "the tide is out"),
        "broken: failed requests": ("failed", "/gone.js: status 404"),
        "broken: text": ("failed", "without it"),
    }
    assert_seen(checks, expected)
    world.write({"page.txt": "Boats go"})
    (world.checkout / ".git").rmdir()
    change = '\n#change\nchange = "page.txt"\nreplace = "Boats"\nby = "Ferries"\nrender = "/file"\n'
    _, changed, _ = carried_out(world, harbour(change))
    assert_seen(changed, {"change": ("passed", "in the page that was open")})
    assert "1 request to elsewhere not let out" in checks["broken"]["seen"]
    assert Path(checks["rendered"]["evidence"]).read_bytes().startswith(b"\x89PNG")


def test_each_example_of_the_documentation_can_be_read() -> None:
    text = (Path(__file__).parents[1] / "docs/checks.md").read_text("utf-8")
    examples = [part.split("```", 1)[0] for part in text.split("```toml\n")[1:]]
    for example in examples:
        run = "" if "[[run]]" in example else '[[run]]\nname = "quay-display"\ncommand = "true"\n'
        manifest = Manifest(
            location="dokimon.toml", name="dokimon.toml", text="format = 1\n" + run + example, root=Path("/")
        )
        assert read_settings(manifest).run, example
    assert len(examples) == 14


@pytest.mark.skipif(shutil.which("openssl") is None, reason="needs openssl to make a certificate")
def test_https_is_spoken_where_plain_http_is_hung_up_on(world: World) -> None:
    asked = ["-keyout", "key.pem", "-out", "held.pem", "-subj", "/CN=Quay", "-addext", "subjectAltName=DNS:localhost"]
    subprocess.run(
        ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", *asked],
        cwd=world.checkout,
        check=True,
        capture_output=True,
    )
    world.write(
        {
            "serve.py": "import http.server, ssl, sys\nserver = http.server.ThreadingHTTPServer(('127.0.0.1', "
            "int(sys.argv[1])), http.server.SimpleHTTPRequestHandler)\ncontext = "
            "ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)\ncontext.load_cert_chain('held.pem', 'key.pem')\n"
            "server.socket = context.wrap_socket(server.socket, server_side=True)\n"
            "server.serve_forever()\n",
            "index.html": "<title>Quay</title><p>Boats",
        }
    )
    status, checks, report = carried_out(
        world, f'[[run]]\nname = "quay"\ncommand = "{sys.executable} serve.py {{port}}"\nport = "any"\n'
    )
    assert status == 0 and report["runs"][0]["url"].startswith("https://"), report
    assert_seen(checks, {"GET /": ("passed", "200"), "certificate": ("passed", "issued by Quay for localhost")})


def test_a_pattern_of_up_that_backtracks_for_ever_is_given_up(world: World) -> None:
    command = "printf '%060d\\n' 0 | tr 0 a; sleep 30"
    text = f'[[run]]\nname = "quay"\ncommand = "{command}"\nup = {{ line = "(?:a|aa)+c[0-9]", within = "4s" }}\n'
    world.write({"dokimon.toml": "format = 1\n" + text.replace("\\n'", "\\\\n'")})
    status, run = world.run_of()
    assert status == 1 and "simplify" in run["reason"], run


@pytest.mark.parametrize(
    "smoke, says",
    [
        ('get = "/"\nrequest = "login"', '"request" is a method and a path'),
        ('get = "/"\nstatus = "2x"', '"2x" is not a status'),
        ('get = "/"\nwithin = "soon"', '"soon" is not a valid duration'),
        ('get = "/"\nshows = { pattern = "(" }', "is not a regular expression"),
        ('get = "/"\nsize = "big"', '"big" is not a valid size'),
        ('get = "/"\ntake = { x = { att = "/y" } }', '"take'),
        ('fact = "x"', 'is found in one of "printed", "get" and "file"'),
        ('change = "x"', 'needs the text to "replace"'),
        ('service = "redis"', 'needs the "port"'),
        ('gett = "/"', 'did you mean "get"?'),
        ('built = "x"\nkind = "elff"', '"elff" is not a kind of file'),
        ('built = "x"\ntitle = "y"', 'unknown key "title" in [[smoke]] with "built"'),
        ("needed = true", "[[smoke]] checks nothing; give it one of"),
    ],
)  # fmt: skip
def test_what_cannot_be_checked_is_told_with_its_line(world: World, smoke: str, says: str) -> None:
    world.write({"dokimon.toml": f'format = 1\n[[run]]\nname = "a"\ncommand = "true"\n[[smoke]]\n{smoke}\n'})
    ended = world.dokimon("verify")
    assert ended.status == 2 and says in ended.err and "dokimon.toml:" in ended.err, ended


def test_a_kind_of_ones_own_is_one_module_and_one_line(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    """Nothing but the registry is told of it: the settings, the schema, the plan and the run take it as any other."""
    from dokimon.core.checks import registry
    from dokimon.core.settings.schema import schema

    monkeypatch.syspath_prepend(str(STANDINS))
    own = registry.CheckKind(("bell",), "a_kind_of_ones_own", "Bell")
    monkeypatch.setattr(registry, "KINDS", (*registry.KINDS, own))
    for module in ("dokimon.core.settings.checks", "dokimon.core.settings.schema"):
        monkeypatch.setattr(f"{module}.KINDS", registry.KINDS)
    assert "Bell" in schema()["$defs"] and "bell" in schema()["$defs"]["Bell"]["properties"]
    world.write(
        {
            "dokimon.toml": 'format = 1\n[[run]]\nname = "quay"\ncommand = "echo rung 3 times"\n[[smoke]]\nbell = 3\n'
            '[[smoke]]\nprints = "{rings}"\n'
        }
    )
    import dokimon

    report = dokimon.smoke(world.checkout, environment=world.environment)
    seen = {check.name: (check.verdict, check.kind) for check in report.runs[0].checks}
    assert seen["rings 3 times"] == ("passed", "bell") and seen["prints"] == ("passed", "console"), report.runs
    assert report.runs[0].kind == "program"  # it says which exit status is expected
    world.write({"dokimon.toml": 'format = 1\n[[run]]\nname = "quay"\ncommand = "true"\n[[smoke]]\nbell = -1\n'})
    with pytest.raises(dokimon.faults.SettingsFault, match="a bell rings at least once"):
        dokimon.needs(world.checkout, environment=world.environment)
