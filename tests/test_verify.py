"""`dokimon verify`, driven as installed; and the survey of tools that behave badly."""

from __future__ import annotations

import os
import re
import signal
from pathlib import Path

import pytest

from conftest import World, wait_for

NODE = '{"name": "board",\n "engines": {"node": ">=18.17"}, "packageManager": "npm@10.2.4"}'


@pytest.mark.parametrize(
    "script, status, verdict, says",
    [
        ("echo v20.11.1", 0, "met", "20.11.1 is accepted"),
        ("echo v16.20.2", 1, "unmet", "16.20.2 is too old; accepted: 18.17 or newer"),
        (None, 1, "missing", "no folder on PATH has node or nodejs"),
        ("echo hello; exit 3", 3, "unknown", "printed no version but “hello” and ended with status 3"),
        ("exit 0", 3, "unknown", "printed nothing and ended with status 0"),
        ("kill -9 $$", 3, "unknown", "was ended by signal 9"),
        ("echo v20.11.1; exit 1", 0, "met", "20.11.1 is accepted"),
        ("echo warning: old >&2; echo v20.11.1 >&2", 0, "met", "20.11.1 is accepted"),
        (r"printf 'v20.11.1-\033[31m\007[bold]x[/]\n'", 0, "unknown", "cannot be compared"),
        (r"printf '\033[1mv20.11.1\033[0m\n'", 0, "met", "20.11.1 is accepted"),
        ("yes v", 3, "unknown", "printed more than 64 KiB"),
        ('read answer; echo "v$answer"', 3, "unknown", "printed no version but “v”"),
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
        "PATH": f"::.:bin:{world.checkout}/node_modules/.bin:{world.checkout}/.venv/bin:{world.tools}:{world.basics}",
        "NODE_OPTIONS": "--require=./npm",
        "BASH_ENV": f"{world.checkout}/npm",
        "PYTHONPATH": str(world.checkout),
    }
    report = world.dokimon("verify", "--format", "json").report
    assert not mark.exists() and sorted(world.checkout.rglob("*")) == before
    node = next(each for each in report["requirements"] if each["tool"] == "node")
    assert node["verdict"] == "unknown" and "is the project's own and is not run" in node["reason"]


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
    assert ended.status == 0 and "unmet" in ended.out and "needed because the old pier" in ended.out
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
    assert "set by the project itself: hatchling >=1.26" in world.dokimon("needs").out
    world.environment["COLUMNS"] = "300"
    assert f"{world.tools / 'python'}\n" not in world.dokimon("verify", "--quiet").out
    assert str(world.tools / "python") in world.dokimon("verify", "--verbose").out.partition("known by")[2]
    first, second = (world.dokimon("verify", "--format", "json").out for _ in range(2))
    times = re.compile(r'"\w*seconds": [\d.]+|"at": "[^"]+"')
    assert times.sub("", first) == times.sub("", second)
    assert world.dokimon("--version").out.startswith("dokimon 0.")


def test_an_interrupted_survey_ends_at_once(world: World) -> None:
    asked = world.home / "asked.mark"
    world.tool("git", f"touch {asked}; sleep 60")
    world.write({"dokimon.toml": 'format = 1\n[[need]]\ntool = "git"\n'})
    process = world.start("verify")
    wait_for(asked)
    process.send_signal(signal.SIGINT)
    assert process.wait(30) == 130


@pytest.mark.skipif(not Path("/usr/bin/git").exists(), reason="no git on this machine")
def test_real_tools_of_this_machine(world: World) -> None:
    world.write({"dokimon.toml": 'format = 1\n[[need]]\ntool = "git"\nversion = ">=1.8"\n[[need]]\ntool = "python"\n'})
    world.environment["PATH"] = os.environ["PATH"]
    ended = world.dokimon("verify", "--format", "json")
    assert ended.status == 0, ended.report["requirements"]
