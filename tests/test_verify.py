"""`dokimon verify`, driven as installed; and the survey of tools that behave badly."""

from __future__ import annotations

import os
import re
import signal
import subprocess
import time
from pathlib import Path

import pytest

from conftest import DOKIMON, World
from dokimon.core.machine import asking
from dokimon.core.machine.catalogue import find_tool, known_tools
from dokimon.core.machine.shell import put_first, shell_in_use
from dokimon.core.machine.survey import survey

NODE = '{"name": "board",\n "engines": {"node": ">=18.17"}, "packageManager": "npm@10.2.4"}'


@pytest.mark.parametrize(
    "script, status, verdict, says",
    [
        ("echo v20.11.1", 0, "met", "20.11.1 is accepted"),
        ("echo v16.20.2", 1, "unmet", "16.20.2 is too old; accepted: 18.17 or newer"),
        (None, 1, "missing", "no folder on PATH holds node or nodejs"),
        ("echo hello; exit 3", 3, "unknown", "printed “hello” and ended with 3"),
        ("exit 0", 3, "unknown", "printed nothing and ended with 0"),
        ("kill -9 $$", 3, "unknown", "was ended by signal 9"),
        ("echo v20.11.1; exit 1", 0, "met", "20.11.1 is accepted"),
        ("echo warning: old >&2; echo v20.11.1 >&2", 0, "met", "20.11.1 is accepted"),
        (r"printf 'v20.11.1-\033[31m\007[bold]x[/]\n'", 0, "unknown", "cannot be compared"),
        (r"printf '\033[1mv20.11.1\033[0m\n'", 0, "met", "20.11.1 is accepted"),
        ("yes v", 3, "unknown", "printed more than 64 KiB"),
        ('read answer; echo "v$answer"', 3, "unknown", "printed “v”"),
    ],
)  # fmt: skip
def test_one_tool_and_what_is_made_of_it(
    world: World, script: str | None, status: int, verdict: str, says: str
) -> None:
    if script is None and any(Path(home, "node").exists() for home in ("/usr/local/bin", "/opt/homebrew/bin")):
        pytest.skip("this machine has a Node.js in a usual home off PATH: there it is not missing")
    world.environment["PATH"] = f"{world.tools}:{world.home}"
    world.tool("sh", 'exec /bin/sh "$@"')
    if script:
        world.tool("node", script.replace("kill", "/bin/kill").replace("yes", "/usr/bin/yes"))
    world.tool("npm", "echo 10.2.4")
    world.write({"package.json": NODE})
    ended = world.dokimon("verify", "--format", "json")
    finding = next(each for each in ended.report["requirements"] if each["tool"] == "node")
    assert (finding["verdict"], says in finding["reason"]) == (verdict, True), finding
    assert finding["source"] == {"file": "package.json", "line": 2, "text": NODE.splitlines()[1].strip()}
    assert "\x1b" not in ended.out
    if verdict != "unknown":
        assert ended.status == status
    drawn = world.dokimon("verify")
    assert verdict in drawn.out and "package.json:2" in drawn.out and "\x1b" not in drawn.out
    assert all(len(line) <= 100 for line in drawn.out.splitlines())
    assert verdict == "met" or "→" in drawn.out  # with the next step


def test_every_copy_is_found_once_and_links_are_followed(world: World, tmp_path: Path) -> None:
    first, second, third = tmp_path / "first", tmp_path / "second", tmp_path / "third"
    real = world.tool("node-real", "echo v16.0.0", tmp_path / "opt")
    for folder in (first, second, third):
        folder.mkdir()
    (first / "node").symlink_to(real)
    (second / "node").symlink_to(real)  # the same file again
    world.tool("node", "echo v20.1.0", third)
    (third / "nodejs").symlink_to(tmp_path / "nowhere")
    found = survey(["node"], tmp_path, world.checkout, {"PATH": f"{first}:{second}:{third}"})["node"]
    assert [(copy.path, copy.version, copy.reached, copy.via) for copy in found[:2]] == [
        (str(first / "node"), "16.0.0", True, str(real)),
        (str(third / "node"), "20.1.0", False, None),
    ]
    assert found[2].reason == "is a link that leads nowhere"
    world.environment["PATH"] = f"{first}:{third}:/usr/bin:/bin"
    world.write({".nvmrc": "20"})
    (finding,) = world.dokimon("verify", "--format", "json").report["requirements"]
    assert finding["verdict"] == "unmet"
    assert finding["remedies"][0]["command"] == f'export PATH={third}:"$PATH"'


def test_what_lies_off_path_is_found_named_and_put_first(world: World) -> None:
    """On PATH lies the wrong Node.js; a version manager's folder holds others, of which one would do."""
    world.environment["PATH"] = str(world.tools)
    homes = world.home / ".nvm/versions/node"
    for version in ("16.20.2", "20.9.0", "20.11.1"):
        world.tool("node", "touch was-run; echo v0.0.0", homes / f"v{version}/bin")  # the folder tells, nothing is run
    world.tool("node", "echo v18.0.0")
    world.tool("npm", "echo 10.2.4")
    world.write({"package.json": '{"engines": {"node": "^20.10"}, "packageManager": "npm@10.2.4"}'})
    right = homes / "v20.11.1/bin"
    report = world.dokimon("verify", "--format", "json").report
    node = report["requirements"][0]
    assert node["verdict"] == "unmet" and node["remedies"][0]["command"] == f'export PATH={right}:"$PATH"'
    copies = [
        (copy["version"], copy["reached"], copy.get("off_path", False))
        for copy in report["installations"]
        if copy["tool"] == "node" and copy["path"].startswith(str(world.home.parent))
    ]
    assert copies == [
        ("18.0.0", True, False),
        ("20.11.1", False, True),
        ("20.9.0", False, True),
        ("16.20.2", False, True),
    ]
    ended = world.dokimon("path")
    assert (ended.status, ended.out) == (0, f'export PATH={right}:"$PATH"\n')
    assert world.dokimon("path", "--shell", "fish").out == f"set -gx PATH {right} $PATH\n"
    script = f'eval "$({DOKIMON} path)"; {DOKIMON} verify --quiet'
    eased = subprocess.run(
        ["/bin/sh", "-c", script],
        cwd=world.checkout,
        env=world.environment,
        capture_output=True,
        text=True,
        check=False,
    )
    assert eased.returncode == 0, eased
    (world.tools / "node").unlink()
    missing = world.dokimon("verify", "--format", "json").report["requirements"][0]
    assert missing["verdict"] == "off-path" and str(right) in missing["reason"]
    world.write({"package.json": '{"engines": {"node": ">=99"}, "packageManager": "npm@10.2.4"}'})
    ended = world.dokimon("path")
    assert (ended.status, ended.out) == (1, "") and "no copy of node on this machine would do" in ended.err
    assert not (world.checkout / "was-run").exists()


def test_tools_shows_every_copy_of_what_is_named(world: World) -> None:
    world.tool("git", "echo git version 2.40.1")
    world.tool("go", "echo go version go1.22.3 linux/amd64", world.home / "sdk/go1.22.3/bin")
    world.environment["PATH"] = f"{world.tools}"
    world.tool("sh", 'exec /bin/sh "$@"')
    ended = world.dokimon("tools", "git", "go", "deno", "--format", "json")
    found = {copy["tool"]: (copy["version"], copy["reached"]) for copy in ended.report["installations"]}
    assert (ended.status, found) == (1, {"git": ("2.40.1", True), "go": ("1.22.3", False)})
    drawn = world.dokimon("tools", "git", "go", "deno").out
    assert "reached" in drawn and "off PATH" in drawn and "deno missing" in drawn
    assert world.dokimon("tools", "git").status == 0
    ended = world.dokimon("tools", "gti")
    assert ended.status == 2 and "did you mean 'git'?" in ended.err


@pytest.mark.parametrize(
    "environment, folders, line",
    [
        ({"SHELL": "/bin/bash"}, ["/opt/a b/bin", "/c"], "export PATH='/opt/a b/bin':/c:\"$PATH\""),
        ({"SHELL": "/usr/bin/fish"}, ["/a"], "set -gx PATH /a $PATH"),
        ({"SHELL": "/usr/bin/pwsh"}, ["/it's"], "$env:PATH = '/it''s:' + $env:PATH"),
        ({}, ["/$(touch x)"], "export PATH='/$(touch x)':\"$PATH\""),
    ],
)  # fmt: skip
def test_the_line_fits_the_shell_and_is_quoted(environment: dict[str, str], folders: list[str], line: str) -> None:
    assert put_first(folders, shell_in_use(environment)) == line


def test_a_shim_answers_by_the_folder_it_is_asked_in(world: World) -> None:
    """The shim looks for a version file in the folder where it is called, as version managers' shims do."""
    shims = world.home / ".pyenv/shims"
    world.tool("python", '# pyenv exec\n[ -f .python-version ] && echo "Python $(cat .python-version).9"', shims)
    world.environment["PATH"] = f"{shims}:{world.environment['PATH']}"
    world.write({".python-version": "3.10"})
    report = world.dokimon("verify", "--format", "json").report
    shim = report["installations"][0]
    assert (shim["version"], shim["via"], shim["shim"], shim["reached"]) == ("3.10.9", "pyenv", True, True)
    assert report["verdict"] == "met"
    world.tool("python", "# pyenv exec\necho \"version '3.10' is not installed\"; exit 1", shims)
    world.tool("pyenv", "true")
    (finding,) = world.dokimon("verify", "--format", "json").report["requirements"]
    assert (finding["verdict"], finding["remedies"][0]["command"]) == ("unknown", "pyenv install 3.10")
    assert "printed “version '3.10' is not installed” and ended with 1" in finding["reason"]


def test_files_tell_the_version_before_anything_is_run(world: World, tmp_path: Path) -> None:
    npm = world.tool("npm-cli.js", "touch /tmp/was-run; echo 1.0.0", tmp_path / "lib/npm/bin")
    (tmp_path / "lib/npm/package.json").write_text('{\n  "name": "npm",\n  "version": "10.8.2"\n}')
    (world.tools / "npm").symlink_to(npm)
    environment = tmp_path / "harbour"
    (environment / "bin").mkdir(parents=True)
    (environment / "bin/python").symlink_to("/usr/bin/env")
    (environment / "pyvenv.cfg").write_text("home = /usr/bin\nversion = 3.12.3\n")
    path = f"{environment / 'bin'}:{world.tools}"
    found = survey(["npm", "python"], tmp_path, world.checkout, {"PATH": path})
    assert [(copies[0].version, copies[0].known_by) for copies in found.values()] == [
        ("10.8.2", "file"),
        ("3.12.3", "file"),
    ]


def test_looking_at_a_hostile_checkout_runs_nothing_of_it(world: World) -> None:
    """PATH leads into the checkout in three ways, and the checkout has tools, hooks and settings of its own."""
    mark = world.home / "was-run"
    for name in ("node", "npm", "git", "python", "bin/node", "node_modules/.bin/npm", ".venv/bin/python"):
        world.tool(Path(name).name, f"touch {mark}; echo v99.0.0", world.checkout / Path(name).parent)
    (world.tools / "npm").symlink_to(world.checkout / "npm")
    world.write(
        {
            "package.json": NODE,
            ".npmrc": f"node-options=--require={world.checkout}/npm\n",
            "dokimon.toml": 'format = 1\n[[need]]\ntool = "git"\n[[need]]\ntool = "./npm"\n[[need]]\ntool = "python"\n',
        }
    )
    before = sorted(path for path in world.checkout.rglob("*"))
    world.environment |= {
        "PATH": f"::.:bin:{world.checkout}/node_modules/.bin:{world.checkout}/.venv/bin:{world.tools}:/usr/bin:/bin",
        "NODE_OPTIONS": "--require=./npm",
        "BASH_ENV": f"{world.checkout}/npm",
        "PYTHONPATH": str(world.checkout),
    }
    report = world.dokimon("verify", "--format", "json").report
    assert not mark.exists() and sorted(world.checkout.rglob("*")) == before
    node = next(each for each in report["requirements"] if each["tool"] == "node")
    assert node["verdict"] == "unknown" and "lies in the checkout and is not run" in node["reason"]


def test_a_tool_that_hangs_is_given_up_and_killed(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(asking, "LIMIT_SECONDS", 0.3)
    world.tool("git", "sleep 60 & sleep 60")
    environment = {**world.environment, "PATH": f"{world.tools}:/usr/bin:/bin"}
    started = time.monotonic()
    found = survey(["git"], world.checkout, world.checkout, environment)["git"][0]
    assert found.reason == "did not answer within 0.3 seconds" and time.monotonic() - started < 5


def test_a_tool_that_leaves_a_child_behind_still_answers(world: World) -> None:
    world.tool("git", "sleep 60 & echo git version 2.40.1")
    found = survey(["git"], world.checkout, world.checkout, world.environment)["git"][0]
    assert found.version == "2.40.1"


@pytest.mark.parametrize(
    "wanted, command", [("<16", None), (">=20.5 <21", "nvm install 20"), ("20.11.1", "nvm install 20.11.1")]
)
def test_a_remedy_names_a_version_only_where_there_is_one(world: World, wanted: str, command: str | None) -> None:
    world.tool("nvm", "true")
    world.tool("node", "echo v18.0.0")
    world.write({"package.json": f'{{"engines": {{"node": "{wanted}"}}, "packageManager": "npm@10.0.0"}}'})
    node = world.dokimon("verify", "--format", "json").report["requirements"][0]
    assert next(each for each in node["remedies"] if "nvm" in each["say"]).get("command") == command


def test_advice_decides_only_where_one_is_strict(world: World) -> None:
    need = 'format = 1\n[[need]]\ntool = "python"\nversion = "2.7"\nstrength = "advised"\nwhy = "the old pier"\n'
    world.write({"dokimon.toml": need})
    ended = world.dokimon("verify")
    assert ended.status == 0 and "unmet" in ended.out and "asked for because the old pier" in ended.out
    assert world.dokimon("verify", "--strict").status == 1


@pytest.mark.parametrize(
    "arguments, says",
    [
        (["verify", "nowhere"], "there is no folder nowhere"),
        (["verify", "dokimon.toml"], "dokimon.toml is a file"),
        (["verify", "--format", "pdf"], "--format"),
        (["verify", "--output", "no/such/folder"], "cannot be written"),
        (["verify", "broken"], "dokimon.toml:4: unknown key"),
        (["smoke", "broken"], "dokimon.toml:4: unknown key"),
        (["smoke"], "found no way to start"),
        (["demo", "--to", "."], "is there and not empty"),
    ],
)  # fmt: skip
def test_calls_that_cannot_be_used(world: World, arguments: list[str], says: str) -> None:
    faulty = 'format = 1\n[[need]]\ntool = "git"\nwhi = "x"\n'
    world.write({"dokimon.toml": "format = 1\n", "broken/dokimon.toml": faulty})
    ended = world.dokimon(*arguments)
    assert (ended.status, says in ended.err, ended.out) == (2, True, ""), ended


def test_what_goes_where(world: World) -> None:
    built = '[build-system]\nrequires = ["hatchling>=1.26"]\n'  # which pip fetches: nothing this machine must have
    world.write({"pyproject.toml": f'[project]\nname = "tides"\nrequires-python = ">=3.11"\n{built}'})
    ended = world.dokimon("verify", "--format", "json", "--output", "report.json")
    assert (ended.out, ended.err) == ("", "") and '"met"' in (world.checkout / "report.json").read_text()
    assert world.dokimon("verify", "--quiet").out.count("\n") == 1
    assert "settled on by the project itself: hatchling >=1.26" in world.dokimon("needs").out
    world.environment["COLUMNS"] = "300"
    assert f"{world.tools / 'python'}\n" not in world.dokimon("verify", "--quiet").out
    assert str(world.tools / "python") in world.dokimon("verify", "--verbose").out.partition("known by")[2]
    first, second = (world.dokimon("verify", "--format", "json").out for _ in range(2))
    times = re.compile(r'"seconds": [\d.]+')
    assert times.sub("", first) == times.sub("", second)
    assert world.dokimon("--version").out.startswith("dokimon 0.")


def test_an_interrupted_survey_ends_at_once(world: World) -> None:
    world.tool("git", "sleep 60")
    world.write({"dokimon.toml": 'format = 1\n[[need]]\ntool = "git"\n'})
    process = world.start("verify")
    time.sleep(1.5)
    process.send_signal(signal.SIGINT)
    assert process.wait(5) == 130


def test_the_catalogue_can_be_read_and_its_patterns_compiled() -> None:
    for name in known_tools():
        tool = find_tool(name)
        assert tool and tool.name == name and tool.remedy
        assert re.compile(tool.ask.pattern).groups == 1
        assert all(re.compile(evidence.pattern).groups == 1 for evidence in tool.evidence)
        assert tool.remedy[-1].has is None or tool.remedy[-1].only, f"{name} has no remedy for every machine"


@pytest.mark.skipif(not Path("/usr/bin/git").exists(), reason="no git on this machine")
def test_real_tools_of_this_machine(world: World) -> None:
    world.write({"dokimon.toml": 'format = 1\n[[need]]\ntool = "git"\nversion = ">=1.8"\n[[need]]\ntool = "python"\n'})
    world.environment["PATH"] = os.environ["PATH"]
    ended = world.dokimon("verify", "--format", "json")
    assert ended.status == 0, ended.report["requirements"]
