"""What one meets at the command line: help, completion, the closing line, and where a report says it comes from."""

from __future__ import annotations

import json
import os
import re
import subprocess
from pathlib import Path

import msgspec
import pytest

from conftest import DOKIMON, World
from dokimon.core.machine.survey import Installation
from dokimon.core.report.model import (
    Answer,
    Changes,
    Check,
    Diagnosis,
    Difference,
    Finding,
    Found,
    Prepared,
    Remedy,
    Report,
    Run,
    Surroundings,
)  # fmt: skip
from dokimon.core.source import Source

COMMANDS = ("needs", "tools", "verify", "smoke", "path", "init", "compare", "history", "show", "demo")


@pytest.mark.parametrize("command", ["", *COMMANDS])
def test_help_fits_eighty_columns_and_ends_with_an_example(world: World, command: str) -> None:
    world.environment["COLUMNS"] = "80"
    ended = world.dokimon(*command.split(), "--help")
    lines = ended.out.rstrip().splitlines()
    assert (
        ended.status == 0
        and max(map(len, lines)) <= 80
        and "…" not in ended.out
        and "..." not in ended.out.partition("Commands:")[2]
    )
    assert lines[-1].startswith("  Example: ") and f"dokimon {command}".strip() in lines[-1]


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish", "powershell"])
def test_completion_can_be_installed_for_each_shell(world: World, shell: str) -> None:
    shown = world.installed("--show-completion", shell)
    if shown.status:  # older Typers ask which shell it is rather than being told
        world.environment["_TYPER_COMPLETE_TEST_DISABLE_SHELL_DETECTION"] = "1"
        shown = world.installed("--show-completion", shell)
    assert shown.status == 0 and "_DOKIMON_COMPLETE" in shown.out


@pytest.mark.parametrize(
    "line, offered",
    [
        ("dokimon ver", {"verify"}),
        ("dokimon tools nod", {"node"}),
        ("dokimon smoke --ke", {"--keep"}),
        ("dokimon smoke --run ti", {"tides", "tide-log"}),
        ("dokimon path --shell fi", {"fish"}),
    ],
)  # fmt: skip
def test_what_the_shell_offers(world: World, line: str, offered: set[str]) -> None:
    runs = "".join(f'[[run]]\nname = "{name}"\ncommand = "true"\n' for name in ("tides", "tide-log", "board"))
    world.write({"dokimon.toml": f"format = 1\n{runs}"})
    words = line.split(" ")
    asked = {"_DOKIMON_COMPLETE": "complete_bash", "COMP_WORDS": line, "COMP_CWORD": str(len(words) - 1)}
    command = {"args": [str(DOKIMON)], "cwd": world.checkout, "env": {**world.environment, **asked}}
    ended = subprocess.run(**command, capture_output=True, text=True, check=False)
    assert offered <= set(ended.stdout.split()), ended
    world.write({"dokimon.toml": "format = 2"})  # what cannot be read offers nothing, and says nothing
    broken = subprocess.run(**command, capture_output=True, text=True, check=False)
    assert "Traceback" not in broken.stderr


def test_the_last_line_says_how_many_and_what_failed_first(world: World) -> None:
    world.tool("node", "echo v18.0.0")
    world.write(
        {".nvmrc": "20", "dokimon.toml": 'format = 1\n[project]\nname = "Saltmarsh Ferries"\n[[need]]\npath = "."\n'}
    )
    last = world.dokimon("verify").out.splitlines()[-2:]
    assert (
        " ".join(last).strip()
        == "Saltmarsh Ferries: unmet · node: 18.0.0 is too old; accepted: 20.x · 1 of 2 needs met"
    )
    smoke = world.dokimon("smoke").out.splitlines()
    assert "so nothing was run; dokimon smoke --anyway" in " ".join(" ".join(smoke[-2:]).split())
    (world.checkout / ".nvmrc").unlink()
    world.write(
        {
            "dokimon.toml": 'format = 1\n[[run]]\nname = "quay"\nkind = "program"\ncommand = "echo tide; '
            'no-such-crane"\n'
            '[[smoke]]\nprints = ["tide", "gull"]\n[[smoke]]\nexit = 0\n'
        }
    )
    out = " ".join(world.dokimon("smoke").out.splitlines()[-2:])
    assert "checkout: failed · quay: the command no-such-crane is not found · 1 of 3 checks passed" in out


def test_a_pass_whose_checks_were_skipped_says_so(world: World) -> None:
    world.server(more='[[smoke]]\nrender = "/"\n')
    world.environment["PATH"] = str(world.tools)  # no browser
    ended = world.dokimon("smoke")
    assert ended.status == 0 and "passed; nothing was checked: what was asked for was skipped" in " ".join(
        ended.out.split()
    )
    assert "1 of 2 checks passed, 1 skipped" in " ".join(ended.out.splitlines()[-2:])


def test_only_projects_count_in_a_folder_of_them(world: World, tmp_path: Path) -> None:
    folder = tmp_path / "fleet"
    for name in ("board", "harbour/tides", "harbour/node_modules/x", ".hidden/x"):
        (folder / name).mkdir(parents=True)
        (folder / name / "package.json").write_text("{}")
    shown = world.dokimon("smoke", "--show-plan", "-f", "json", cwd=folder)
    assert [Path(each["project"]["root"]).name for each in json.loads(shown.out)] == ["board", "tides"]
    empty = tmp_path / "empty"
    empty.mkdir()
    assert "No requirements found in any file that Dokimon reads." in world.dokimon("verify", cwd=empty).out


def test_what_cannot_be_read_is_marked_under_the_place(world: World) -> None:
    world.write({"package.json": '{"engines": {"node": ">=18 <twenty"}}'})
    for command in ("needs", "verify"):
        lines = world.dokimon(command).out.splitlines()
        (number,) = [i for i, line in enumerate(lines) if line.strip() == "^"]
        assert lines[number - 1].strip() == ">=18 <twenty" and lines[number].index("^") == lines[number - 1].index("<")
    (finding,) = [
        each for each in world.dokimon("needs", "--format", "json").report["requirements"] if each["tool"] == "node"
    ]
    assert finding["wrong_at"] == 5
    world.write({"dokimon.toml": 'format = 1\n[[need]]\ntool = "node"\nversion = ">=18, <<20"\n'})
    ended = world.dokimon("needs")
    assert ended.status == 2 and ended.err.splitlines()[1:] == ["    >=18, <<20", "          ^"]


def test_met_ranges_of_locked_packages_are_one_row(world: World) -> None:
    world.tool("node", "echo v20.11.1")
    world.tool("npm", "echo 10.2.4")
    ranges = {"tern": ">=10", "gull": ">=12", "heron": ">=16", "old": "<12"}
    packages = {
        f"node_modules/{name}": {"version": "1.0.0", "engines": {"node": text}} for name, text in ranges.items()
    }
    import json

    manifest = {"dependencies": dict.fromkeys(ranges, "*"), "engines": {"node": ">=20"}}
    lock = {"lockfileVersion": 3, "packages": {"": {}, **packages}}
    world.write({"package.json": json.dumps(manifest), "package-lock.json": json.dumps(lock)})
    out = world.dokimon("verify").out
    assert out.count("package-lock.json: 3 declarations") == 1 and "3 ranges (advised)" in out
    assert "old: <12" in out and "older than 12" in out  # what is not met stands for itself


def test_a_report_says_when_where_and_of_what_it_is(world: World) -> None:
    ended = world.dokimon("verify", "--format", "json")
    made = ended.report["made"]
    assert ended.report["minor"] >= 1 and made["at"].endswith("+00:00") and made["architecture"] == os.uname().machine
    assert made["dokimon"] and made["release"] and "commit" not in made


def test_a_copy_that_a_version_manager_has_is_named_before_an_installation(world: World) -> None:
    world.tool("python3", "echo Python 3.11.7")
    world.tool("pyenv", "exit 1")
    world.tool("python", "exit 1", world.home / ".pyenv/versions/3.8.18/bin")
    world.write({".python-version": "3.8"})
    (finding,) = world.dokimon("verify", "--format", "json").report["requirements"]
    (first, *more) = finding["remedies"]
    assert first["say"].startswith("pyenv has 3.8.18 already: choose it there") and not more
    assert first["command"] == 'export PATH="$HOME"/.pyenv/versions/3.8.18/bin:"$PATH"'
    assert str(world.home) not in world.dokimon("verify").out.partition("export")[0]


def test_each_key_of_the_report_is_explained() -> None:
    """The page names just the keys that there are, of the parts that people look at first."""
    text = (Path(__file__).parents[1] / "docs/reports.md").read_text("utf-8")
    tables = [set(re.findall(r"^\| `(\w+)` \|", section, re.MULTILINE)) for section in text.split("\n## ")[1:]]
    parts = (
        Report, Finding, Found, Remedy, Source, Prepared, Run, Check, Diagnosis, Answer, Changes, Difference, Surroundings,
        Installation,
    )  # fmt: skip
    assert tables == [{field.encode_name for field in msgspec.structs.fields(part)} for part in parts]
