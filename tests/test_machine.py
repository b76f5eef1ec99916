"""What this machine has: the survey, driven directly and through the installed program."""

from __future__ import annotations

import re
import subprocess
from pathlib import Path

import pytest

from conftest import DOKIMON, World, surveyed
from dokimon.core.machine import asking
from dokimon.core.machine.catalogue import find_tool, known_tools
from dokimon.core.machine.shell import put_first, shell_in_use


def test_every_copy_is_found_once_and_links_are_followed(world: World, tmp_path: Path) -> None:
    first, second, third = tmp_path / "first", tmp_path / "second", tmp_path / "third"
    real = world.tool("node-real", "echo v16.0.0", tmp_path / "opt")
    for folder in (first, second, third):
        folder.mkdir()
    (first / "node").symlink_to(real)
    (second / "node").symlink_to(real)  # the same file again
    world.tool("node", "echo v20.1.0", third)
    (third / "nodejs").symlink_to(tmp_path / "nowhere")
    found = surveyed(["node"], tmp_path, world.checkout, {"PATH": f"{first}:{second}:{third}"})["node"]
    assert [(copy.path, copy.version, copy.reached, copy.via) for copy in found[:2]] == [
        (str(first / "node"), "16.0.0", True, str(real)),
        (str(third / "node"), "20.1.0", False, None),
    ]
    assert found[2].reason == f"is a link that leads nowhere (to {tmp_path / 'nowhere'})"
    world.environment["PATH"] = f"{first}:{third}:{world.basics}"
    world.write({".nvmrc": "20"})
    (finding,) = world.dokimon("verify", "--format", "json").report["requirements"]
    assert finding["verdict"] == "unmet"
    assert finding["remedies"][0]["command"] == world.put_first(third)


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
    assert node["verdict"] == "unmet" and node["remedies"][0]["command"] == world.put_first(right)
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
    assert ended.status == 1 and 'was "git" meant?' in ended.out
    assert "meant" not in world.dokimon("tools", "black").out  # of a similar name, and no slip
    assert world.dokimon("tools", "bin/git").status == 2


@pytest.mark.parametrize(
    "environment, folders, line",
    [
        ({"SHELL": "/bin/bash"}, ["/opt/a b/bin", "/c"], "export PATH='/opt/a b/bin':/c:\"$PATH\""),
        ({"SHELL": "/usr/bin/fish"}, ["/a"], "set -gx PATH /a $PATH"),
        ({"SHELL": "/usr/bin/pwsh"}, ["/it's"], "$env:PATH = '/it''s:' + $env:PATH"),
        ({}, ["/$(touch x)"], "export PATH='/$(touch x)':\"$PATH\""),
        ({}, ["/h/a b", "/h/c", "/hh"], "export PATH=\"$HOME\"'/a b':\"$HOME\"/c:/hh:\"$PATH\""),
        ({"SHELL": "fish"}, ["/h/a"], 'set -gx PATH "$HOME"/a $PATH'),
    ],
)  # fmt: skip
def test_the_line_fits_the_shell_and_is_quoted(environment: dict[str, str], folders: list[str], line: str) -> None:
    assert put_first(folders, shell_in_use(environment), home="/h") == line


def test_a_shim_answers_by_the_folder_it_is_asked_in(world: World) -> None:
    """The shim looks for a version file in the folder where it is called, as version managers' shims do."""
    shims = world.home / ".pyenv/shims"
    mark = world.home / "was-run"
    world.tool("python", f"touch {mark}; exec pyenv exec python", shims)
    real = world.tool("python", "echo Python 3.10.9", world.home / ".pyenv/versions/3.10.9/bin")
    world.environment["PATH"] = f"{shims}:{world.environment['PATH']}"
    world.write({".python-version": "3.10"})
    report = world.dokimon("verify", "--format", "json").report
    shim = report["installations"][0]
    assert (shim["version"], shim["via"], shim["shim"]) == ("3.10.9", str(real), "pyenv")
    assert (shim["reached"], shim["chosen_by"]) == (True, str(world.checkout / ".python-version"))
    assert report["verdict"] == "met" and not mark.exists()
    drawn = world.dokimon("tools", "python").out
    assert "pyenv: ~/.pyenv/versions/3.10.9/bin/python" in drawn
    world.tool("pyenv", "true")
    world.write({".python-version": "3.98"})  # no Python that these tests could run on
    (finding,) = world.dokimon("verify", "--format", "json").report["requirements"]
    assert (finding["verdict"], finding["remedies"][0]["command"]) == ("missing", "pyenv install 3.98")
    assert "is a shim of pyenv, which has no python for 3.98, the version that" in finding["reason"]


def test_files_tell_the_version_before_anything_is_run(world: World, tmp_path: Path) -> None:
    npm = world.tool("npm-cli.js", "touch /tmp/was-run; echo 1.0.0", tmp_path / "lib/npm/bin")
    (tmp_path / "lib/npm/package.json").write_text('{\n  "name": "npm",\n  "version": "10.8.2"\n}')
    (world.tools / "npm").symlink_to(npm)
    environment = tmp_path / "harbour"
    (environment / "bin").mkdir(parents=True)
    (environment / "bin/python").symlink_to("/usr/bin/env")
    (environment / "pyvenv.cfg").write_text("home = /usr/bin\nversion = 3.12.3\n")
    path = f"{environment / 'bin'}:{world.tools}"
    found = surveyed(["npm", "python"], tmp_path, world.checkout, {"PATH": path})
    assert [(copies[0].version, copies[0].known_by) for copies in found.values()] == [
        ("10.8.2", "file"),
        ("3.12.3", "file"),
    ]


def test_a_tool_that_hangs_is_given_up_and_killed(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(asking, "LIMIT_SECONDS", 0.3)
    world.tool("git", "sleep 60 & sleep 60")
    environment = {**world.environment, "PATH": f"{world.tools}:{world.basics}"}
    found = surveyed(["git"], world.checkout, world.checkout, environment)["git"][0]
    assert found.reason == "did not answer within 0.3 seconds"


def test_a_tool_that_leaves_a_child_behind_still_answers(world: World) -> None:
    world.tool("git", "sleep 60 & echo git version 2.40.1")
    found = surveyed(["git"], world.checkout, world.checkout, world.environment)["git"][0]
    assert found.version == "2.40.1"


def test_the_catalogue_can_be_read_and_its_patterns_compiled() -> None:
    for name in known_tools():
        tool = find_tool(name)
        assert tool and tool.name == name and tool.remedy
        assert re.compile(tool.ask.pattern).groups == 1
        assert all(re.compile(evidence.pattern).groups == 1 for evidence in tool.evidence)
        assert tool.remedy[-1].has is None or tool.remedy[-1].only, f"{name} has no remedy for every machine"
