"""Reaching the right copy: `path`, `--pick`, variables that name homes; and catalogues of one's own."""

from __future__ import annotations

import subprocess
from pathlib import Path

import msgspec
import pytest

from conftest import DOKIMON, World
from dokimon.core.declarations.requirement import requirement
from dokimon.core.judging.routing import route_for
from dokimon.core.judging.values import Machine
from dokimon.core.machine.catalogue import Catalogue
from dokimon.core.machine.links import folder_of_links
from dokimon.core.machine.survey import Installation
from dokimon.core.source import Source


@pytest.fixture
def ferry(world: World) -> World:
    """A world with the wrong Node.js first on PATH, and the right one in a version manager's folder."""
    world.tool("node", "echo v18.0.0")
    world.tool("npm", "echo 10.2.4")
    world.tool("node", 'case $1 in --version) echo v20.11.1;; *) echo "sailing with 20";; esac', right(world).parent)
    world.write({"package.json": '{"engines": {"node": "^20.10"}, "packageManager": "npm@10.2.4"}'})
    return world


def right(world: World) -> Path:
    return world.home / ".nvm/versions/node/v20.11.1/bin/node"


def test_verify_picks_and_says_so(ferry: World) -> None:
    ferry.write({".nvmrc": "20.11.1"})
    plain = ferry.dokimon("verify")
    assert plain.out.count(ferry.put_first(right(ferry).parent)) == 1  # two needs of one tool, one block
    assert "(asked for by .nvmrc:1)" in plain.out and plain.out.count("would do") + plain.out.count("has 20.11.1") == 1
    assert plain.status == 1 and str(Path("~/.nvm/versions/node/v20.11.1")) not in plain.err
    ended = ferry.dokimon("verify", "--pick")
    assert ended.status == 0 and "picked: with ~/.nvm/versions/node/v20.11.1/bin first on PATH" in ended.out
    report = ferry.dokimon("verify", "--pick", "--format", "json").report
    assert report["picked"] == [str(right(ferry).parent)] and report["requirements"][0]["verdict"] == "met"
    script = f'eval "$({DOKIMON} path)"; {DOKIMON} verify --pick --format json'
    again = subprocess.run(
        ["/bin/sh", "-c", script], cwd=ferry.checkout, env=ferry.environment, capture_output=True, text=True, check=True
    )
    assert "picked" not in again.stdout  # every need is reached by then


def test_smoke_runs_with_what_was_picked(ferry: World) -> None:
    ferry.write({"dokimon.toml": 'format = 1\n[[run]]\nname = "ferry"\ncommand = "node sail.js"\nkind = "program"\n'
        '[[smoke]]\nprints = "sailing with 20"\n'})  # fmt: skip
    assert ferry.dokimon("smoke").status == 1
    ended = ferry.dokimon("smoke", "--pick")
    assert ended.status == 0 and "picked: with ~/.nvm" in ended.out, ended


def test_either_of_two_tools_is_put_first(world: World) -> None:
    either = 'any = [{ tool = "bun", version = ">=1" }, { tool = "deno", version = ">=2" }]'
    world.write({"dokimon.toml": f"format = 1\n[[need]]\n{either}\n"})
    world.environment["PATH"] = str(world.tools)
    world.tool("sh", 'exec /bin/sh "$@"')
    assert "no copy of bun or deno on this machine would do" in world.dokimon("path").err
    world.tool("deno", "echo deno 2.1.0", world.home / ".deno/bin")
    assert world.dokimon("path").out == f'export PATH={world.home}/.deno/bin:"$PATH"\n'
    assert world.dokimon("verify", "--pick").status == 0
    world.tool("bun", "echo 1.1.0")
    assert world.dokimon("path").out == ""


def test_nothing_to_pick_is_no_pick(ferry: World) -> None:
    ferry.write({"package.json": '{"engines": {"node": ">=30"}, "packageManager": "npm@10.2.4"}'})
    ended = ferry.dokimon("verify", "--pick", "--format", "json")
    assert ended.status == 1 and "picked" not in ended.report


def test_advice_never_points_to_a_copy_that_breaks_a_required_need(ferry: World) -> None:
    ferry.write({".nvmrc": "18", "package.json": '{"engines": {"node": ">=18 <19"}, "packageManager": "npm@10.2.4"}'})
    ferry.write({"dokimon.toml": 'format = 1\n[[need]]\ntool = "node"\nversion = "20"\nstrength = "advised"\n'})
    found = ferry.dokimon("verify", "--format", "json").report["requirements"]
    advised = next(each for each in found if each["strength"] == "advised" and each["verdict"] == "unmet")
    assert advised["remedies"][0]["say"].startswith(
        "20.11.1 is there already, but another need of node does not accept it"
    )
    assert not any("export PATH" in each.get("command", "") for each in advised["remedies"])


@pytest.mark.parametrize(
    "value, note",
    [
        ("{home}/gone", "JAVA_HOME names {home}/gone, which is not there"),
        ("{home}/empty", "JAVA_HOME names {home}/empty, which holds no java"),
        ("{home}/jdk21", "JAVA_HOME names {home}/jdk21 (21.0.2), but java on PATH is {tools}/java (17.0.9)"),
        ("{home}/jdk17", None),
    ],
)
def test_a_variable_that_disagrees_with_path_or_points_to_nothing(world: World, value: str, note: str | None) -> None:
    for version in ("17.0.9", "21.0.2"):
        home = world.home / f"jdk{version[:2]}"
        world.tool("java", "exit 1", home / "bin")
        (home / "release").write_text(f'JAVA_VERSION="{version}"\n')
    (world.home / "empty").mkdir()
    (world.tools / "java").symlink_to(world.home / "jdk17/bin/java")
    names = {"home": world.home, "tools": world.tools}
    world.environment["JAVA_HOME"] = value.format(**names)
    world.write({"dokimon.toml": 'format = 1\n[[need]]\ntool = "java"\n'})
    for command in (["verify"], ["tools", "java"]):
        notes = [
            each for each in world.dokimon(*command, "--format", "json").report.get("notes", []) if "JAVA_HOME" in each
        ]
        assert notes[0].startswith(note.format(**names)) if note else not notes, notes
    if note:
        assert "note: JAVA_HOME names" in world.dokimon("verify").out


@pytest.mark.parametrize(
    "wanted, found, says",
    [
        ("16", None, "note that the 16 line has had no fixes since September 2023"),
        (">=16, <17", None, "note that the 16 line has had no fixes since September 2023"),
        (">=22", None, None),
        (">=14", "16.20.2", "16.20.2 is accepted; the 16 line has had no fixes since September 2023"),
    ],
)
def test_lines_that_have_ended_are_named_as_such(
    world: World, wanted: str, found: str | None, says: str | None
) -> None:
    world.tool("fnm", "true")
    world.tool("node", f"echo v{found or '18.0.0'}")
    world.write({"dokimon.toml": f'format = 1\n[[need]]\ntool = "node"\nversion = "{wanted}"\n'})
    (finding,) = world.dokimon("verify", "--format", "json").report["requirements"]
    text = finding["reason"] + " ".join(each["say"] for each in finding.get("remedies", []))
    assert (says or "") in text and (says is not None or "no fixes" not in text)


def test_a_version_manager_that_is_a_function_of_the_shell_counts_as_installed(world: World) -> None:
    (world.home / ".nvm").mkdir()
    (world.home / ".nvm/nvm.sh").touch()
    world.tool("node", "echo v18.0.0")
    world.write({".nvmrc": "20.11.1"})
    (finding,) = world.dokimon("verify", "--format", "json").report["requirements"]
    assert finding["remedies"][0]["command"] == "nvm install 20.11.1"


OWN = """name = "tidectl"
title = "Tide control"
kind = "command"
commands = ["tidectl"]
homes = ["~/tide/bin"]
[ask]
arguments = ["show", "version"]
pattern = 'tidectl v(\\S+)'
[[part]]
called = "chart {name}"
what = "chart"
files = ["~/tide/charts/*.chart"]
path = '/(?P<name>\\w+)\\.chart$'
[[remedy]]
say = "ask the harbour office for {wanted}"
"""


def test_a_catalogue_of_ones_own(world: World) -> None:
    catalogue = world.home / ".config/dokimon/catalogue"
    catalogue.mkdir(parents=True)
    (catalogue / "tidectl.toml").write_text(OWN)
    world.tool("tidectl", '[ "$*" = "show version" ] && echo tidectl v3.2.1', world.home / "tide/bin")
    (world.home / "tide/charts").mkdir()
    (world.home / "tide/charts/channel.chart").touch()
    world.write({"dokimon.toml": 'format = 1\n[[need]]\ntool = "tidectl"\nversion = ">=3"\nwith = ["chart channel"]\n'})
    tool, chart = world.dokimon("verify", "--format", "json").report["requirements"]
    assert (tool["verdict"], tool["found"]["version"]) == ("off-path", "3.2.1")
    assert "tidectl" in world.dokimon("tools", "tidectl").out
    world.environment["PATH"] += f":{world.home / 'tide/bin'}"
    tool, chart = world.dokimon("verify", "--format", "json").report["requirements"]
    assert (tool["verdict"], chart["verdict"]) == ("met", "met")
    # An entry of one's own takes the place of the one that ships.
    (catalogue / "git.toml").write_text(OWN.replace("tidectl", "git", 1))
    assert (
        world.dokimon("tools", "git", "--format", "json")
        .report["installations"][0]["path"]
        .endswith("tide/bin/tidectl")
    )
    for broken, says in (
        ("name = 1", "Expected"),
        ("= x", "Invalid"),
        (OWN, "the file must be called"),
        (OWN.replace("(\\S+)", "x"), "needs a group"),
    ):
        (catalogue / "git.toml").write_text(broken if "called" in says else broken.replace('"tidectl"', '"git"', 1))
        ended = world.dokimon("tools", "git")
        assert ended.status == 2 and "git.toml" in ended.err and says in ended.err and "Traceback" not in ended.err, (
            ended
        )


def test_a_project_may_add_a_tool_and_homes(world: World) -> None:
    was_run = f"touch {world.home}/was-run"
    world.tool("tidectl", f"{was_run}; echo tidectl 3.2.1", world.home / "tide/bin")
    world.tool("go", f"{was_run}; echo go version go1.22.3", world.home / "odd/go")
    world.write(
        {
            "dokimon.toml": 'format = 1\n[[tool]]\nname = "tidectl"\nhomes = ["~/tide/bin"]\n'
            '[[tool]]\nname = "go"\nhomes = ["~/odd/go"]\n[[need]]\ntool = "tidectl"\nversion = ">=3"\n'
            '[[need]]\ntool = "go"\nversion = "1.22.3"\n'
        }
    )
    world.environment["PATH"] = str(world.tools)
    found = world.dokimon("verify", "--format", "json").report["requirements"]
    assert [each["verdict"] for each in found] == ["missing", "missing"]
    for each, name in zip(found, ("tide/bin/tidectl", "odd/go/go"), strict=True):
        assert f"{world.home}/{name} is in a folder that only this checkout names" in each["reason"]
    assert not (world.home / "was-run").exists() and world.dokimon("path").out == ""
    assert world.dokimon("tools", "tidectl").status == 0


def test_a_command_that_only_the_checkout_names_is_asked_when_the_user_says_so(world: World) -> None:
    mark = world.home / "was-run"
    world.tool("deploy", f"touch {mark}; echo deploy 3.2.1")
    world.tool("node", "echo v20.1.0")
    world.write(
        {
            "dokimon.toml": 'format = 1\n[[tool]]\nname = "deploy"\n[[tool]]\nname = "node"\ncommands = ["deploy"]\n'
            '[[need]]\ntool = "deploy"\nversion = ">=3"\n[[need]]\ntool = "node"\n'
        }
    )
    for command in (["verify"], ["verify", "--pick"], ["tools", "deploy"], ["path"], ["verify", "--ask", "other"]):
        world.dokimon(*command)
        assert not mark.exists(), command
    deploy, node = world.dokimon("verify", "--format", "json").report["requirements"]
    assert (deploy["verdict"], node["verdict"]) == ("unknown", "met")
    assert "only this checkout names it" in deploy["reason"]
    assert deploy["remedies"][0]["command"] == "dokimon verify --ask deploy"
    asked = world.dokimon("verify", "--ask", "deploy", "--format", "json").report["requirements"][0]
    assert (asked["verdict"], asked["found"]["version"], mark.exists()) == ("met", "3.2.1", True)


@pytest.mark.parametrize(
    "lines, says",
    [
        (
            'ask = { arguments = ["-c", "rm"] }',
            "dokimon.toml:4: a checkout may ask a tool for --version or -version or -V only",
        ),
        ('ask = { pattern = "x" }', 'dokimon.toml:4: "ask.pattern" is for a catalogue of your own'),
        ('also = ["x*"]', 'dokimon.toml:4: "also" is for a catalogue of your own; a checkout is not trusted with it'),
        ('commands = ["./x"]', "dokimon.toml:4: './x' is not the name of a command"),
        ('hoems = ["x"]', 'unknown key "hoems" in [[tool]]; did you mean "homes"?'),
    ],
)
def test_what_a_checkout_may_not_say_of_a_tool(world: World, lines: str, says: str) -> None:
    world.write({"dokimon.toml": f'format = 1\n[[tool]]\nname = "sh"\n{lines}\n'})
    for command in ("verify", "tools", "path"):
        ended = world.dokimon(command)
        assert ended.status == 2 and says in ended.err, ended


def test_a_folder_that_would_mend_one_need_and_break_another_gets_a_link_before_it(
    world: World, tmp_path: Path
) -> None:
    world.tool("go", "echo go version go1.20 linux/amd64")
    world.tool("git", "echo git version 2.40.1")
    mixed, clean = tmp_path / "mixed", tmp_path / "clean"
    world.tool("go", "echo go version go1.22 linux/amd64", mixed)
    world.tool("git", "echo git version 1.7.0", mixed)
    world.write(
        {
            "dokimon.toml": 'format = 1\n[[need]]\ntool = "go"\nversion = "1.22"\n[[need]]\ntool = "git"\nversion = '
            '">=2"\n'
        }
    )
    world.environment["PATH"] = f"{world.tools}:{mixed}"
    ended = world.dokimon("path")
    links, rest = ended.out.replace('"$HOME"', str(world.home)).partition("=")[2].split(":")[:2]
    assert (ended.status, rest) == (0, str(mixed)) and Path(links, "git").resolve() == world.tools / "git"
    assert world.dokimon("verify", "--pick").status == 0
    world.tool("go", "echo go version go1.22 linux/amd64", clean)
    world.environment["PATH"] += f":{clean}"
    assert world.dokimon("path").out == f'export PATH={clean}:"$PATH"\n'


@pytest.mark.parametrize(
    "manager, wanted, command",
    [
        ("apt-get", None, "sudo apt-get install nodejs npm"),
        ("dnf", None, "sudo dnf install nodejs"),
        ("apk", None, "sudo apk add nodejs npm"),
        ("brew", None, "brew install node"),
        ("brew", ">=20.5 <21", "brew install node@20"),
        ("apt-get", ">=20.5 <21", None),  # the system has one version, which may or may not do
    ],
)
def test_the_way_of_this_system(world: World, manager: str, wanted: str | None, command: str | None) -> None:
    (world.tools / "python").unlink()
    world.tool(manager, "exit 1")
    version = f'version = "{wanted.replace(" ", ", ")}"\n' if wanted else ""
    world.write({"dokimon.toml": f'format = 1\n[[need]]\ntool = "node"\n{version}'})
    world.environment["PATH"] = str(world.tools)
    (finding,) = world.dokimon("verify", "--format", "json").report["requirements"]
    if finding["verdict"] == "off-path":
        pytest.skip("this machine has a Node.js in a usual home off PATH")
    assert finding["remedies"][0].get("command") == command
    assert finding["remedies"][-1]["say"].startswith("install Node.js")


def test_what_only_another_name_reaches_gets_a_link(world: World) -> None:
    world.tool("gcc", "echo gcc version 12.2.0")
    world.tool("gcc-11", "echo gcc version 11.4.0")
    world.tool("arm-none-eabi-gcc-11", "echo gcc version 11.3.0")  # for another machine: no stand-in for any gcc
    world.write({"dokimon.toml": 'format = 1\n[[need]]\ntool = "gcc"\nversion = "11"\n'})
    ended = world.dokimon("path")
    folder = ended.out.partition("=")[2].partition(":")[0].replace('"$HOME"', str(world.home))
    assert ended.status == 0 and Path(folder, "gcc").resolve() == world.tools / "gcc-11"
    assert world.dokimon("path").out == ended.out  # the same links, the same folder
    assert world.dokimon("verify", "--pick").status == 0


def test_a_folder_of_the_system_is_never_put_first(world: World) -> None:
    """All that it holds would come along; and an active virtual environment is never bypassed, but said."""
    system = Path("/usr/bin") if Path("/usr/bin/env").exists() else Path("/bin")
    copies = {"env": [copy("env", "/x/env", "1.0", reached=True), copy("env", f"{system}/env", "2.0")]}
    needs = (requirement("env", "2.0", "plain", Source("x", 1, "")),)
    machine = Machine(installations=copies, environment={}, root=Path("/nowhere"), catalogue=Catalogue())
    route = route_for(needs, machine)
    assert (route.folders, route.links) == ((), (("env", f"{system}/env"),))
    active = msgspec.structs.replace(machine, environment={"VIRTUAL_ENV": "/x"})
    route = route_for(needs, active)
    assert not route.folders and not route.links and "deactivate it first" in route.without[0]


def copy(tool: str, path: str, version: str, *, reached: bool = False) -> Installation:
    return Installation(tool=tool, path=path, version=version, reached=reached, off_path=not reached)


def test_an_order_of_folders_is_found_where_there_is_one() -> None:
    """Each of two folders holds a wrong copy of what the other is for: only one order, or a link, meets both."""
    copies = {
        "java": [
            copy("java", "/p/java", "8", reached=True),
            copy("java", "/a/java", "17"),
            copy("java", "/b/java", "11"),
        ],
        "mvn": [copy("mvn", "/p/mvn", "2", reached=True), copy("mvn", "/b/mvn", "3.9")],
    }
    needs = [
        requirement(name, wanted, "plain", Source("x", 1, "")) for name, wanted in (("java", "17"), ("mvn", ">=3"))
    ]
    machine = Machine(installations=copies, environment={}, root=Path("/nowhere"), catalogue=Catalogue())
    route = route_for(needs, machine)
    assert (route.folders, route.links) == (("/a", "/b"), ()) and route.variables[0][0] == "JAVA_HOME"


def test_java_home_is_set_along(world: World) -> None:
    world.write(
        {"pom.xml": "<project><properties><maven.compiler.release>17</maven.compiler.release></properties></project>"}
    )
    world.tool("mvn", "echo Apache Maven 3.9.6")
    homes = {}
    for version in ("11.0.2", "17.0.9"):
        homes[version] = world.home / f".sdkman/candidates/java/{version}"
        for name in ("java", "javac"):
            world.tool(name, "exit 1", homes[version] / "bin")
        (homes[version] / "release").write_text(f'JAVA_VERSION="{version}"\n')
    world.environment |= {
        "JAVA_HOME": str(homes["11.0.2"]),
        "PATH": f"{homes['11.0.2']}/bin:{world.environment['PATH']}",
    }
    assert world.dokimon("verify").status == 1
    ended = world.dokimon("path")
    assert ended.status == 0 and f"export JAVA_HOME={homes['17.0.9']}\n" in ended.out
    picked = world.dokimon("verify", "--pick")
    assert picked.status == 0 and "JAVA_HOME=~/.sdkman/candidates/java/17.0.9" in picked.out


def test_the_line_for_good_names_the_start_up_file(ferry: World) -> None:
    ended = ferry.dokimon("path", "--lasting", "--shell", "zsh")
    assert ended.out == f"# for ~/.zshrc\n{ferry.put_first(right(ferry).parent)}\n"
    assert ferry.dokimon("path", "--shell", "tcsh").status == 2


def test_a_folder_of_links_that_somebody_changed_is_not_used(tmp_path: Path) -> None:
    links = (("gcc", "/usr/bin/gcc-11"),)
    folder = folder_of_links(links, tmp_path)
    assert folder and folder == folder_of_links(links, tmp_path)
    (folder / "ls").symlink_to("/x/ls")  # it would come first on PATH too
    assert folder_of_links(links, tmp_path) is None
    (folder / "ls").unlink()
    (folder / "gcc").unlink()
    (folder / "gcc").symlink_to("/x/gcc")
    assert folder_of_links(links, tmp_path) is None
    (folder / "gcc").unlink()
    folder.chmod(0o777)
    assert folder_of_links(links, tmp_path) is None
