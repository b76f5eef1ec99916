"""What cannot be seen by looking at this machine once: suppositions, and what is committed."""

from __future__ import annotations

import itertools
import json
import os
import re
import shutil
import signal
import subprocess
import threading
import time
from pathlib import Path

import pytest

from conftest import STANDINS, World, report_in, wait_for
from dokimon.core.jobs import across
from dokimon.core.jobs.options import AcrossOptions, CloneOptions, SmokeOptions
from dokimon.core.processes.sockets import free_port, strangers
from dokimon.core.processes.watching import Watcher
from dokimon.core.proving.across import sentences, verdict_of
from dokimon.core.proving.git import CloneFault
from dokimon.core.report.model import FORMAT, Project, Report, Tried

NEEDS = 'format = 1\n[[need]]\ntool = "node"\nversion = ">=20, <23"\n[[need]]\ntool = "git"\n'


@pytest.mark.parametrize(
    "supposed, verdicts, said",
    [
        (["node=22.11.0"], ["met", "met"], ["node 22.11.0"]),
        (["node=v23.1.0"], ["unmet", "met"], ["node 23.1.0"]),
        (["node=21"], ["met", "met"], ["node 21.0.0"]),
        (["node=18"], ["unmet", "met"], ["node 18.4.1"]),  # of that line one is here: its whole version
        (["node=none"], ["missing", "met"], ["node none"]),
        (["nodejs=19", "git=none"], ["unmet", "missing"], ["node 19.0.0", "git none"]),
        (["node=19", "node=20.1"], ["met", "met"], ["node 20.1.0"]),
        (["python=3.13"], ["missing", "met"], ["python 3.13"]),  # nothing here needs it
    ],
)
def test_it_is_judged_as_if_that_were_reached(
    world: World, supposed: list[str], verdicts: list[str], said: list[str]
) -> None:
    world.write({"dokimon.toml": NEEDS})
    world.tool("node", "echo v18.4.1", world.home / ".nvm/versions/node/v18.4.1/bin")
    options = [word for each in supposed for word in ("--suppose", each)]
    report = world.dokimon("verify", "-f", "json", *options).report
    assert [each["verdict"] for each in report["requirements"]] == verdicts
    assert [each.replace("python 3.13.0", "python 3.13") for each in report["supposed"]] == said
    assert not any(each.get("remedies") for each in report["requirements"])


def test_a_supposition_says_that_it_is_one_and_leaves_no_record(world: World) -> None:
    world.write({"dokimon.toml": NEEDS})
    for form, says in (
        ("table", "supposed: node 22.11.0; judged as if"), ("markdown", "Supposed: node 22.11.0."),
        ("junit", "(supposed: node 22.11.0)"), ("html", "Supposed: node 22.11.0."),
    ):  # fmt: skip
        assert says in world.dokimon("verify", "--suppose", "node=22.11.0", "-f", form).out
    assert json.loads(world.dokimon("history", "-f", "json").out)["lines"] == []


def test_what_runs_on_a_supposed_tool_is_judged_with_it(world: World) -> None:
    world.write({"dokimon.toml": 'format = 1\n[[need]]\ntool = "npm"\n'})
    world.tool("node", "echo v22.11.0")
    modules = world.tools.parent / "lib/node_modules/npm"
    for name, text in {
        "package.json": '{"name": "npm", "version": "11.1.0", "engines": {"node": "^20.17.0 || >=22.9.0"}}',
        "bin/npm-cli.js": "#!/usr/bin/env node\n",
    }.items():
        (modules / name).parent.mkdir(parents=True, exist_ok=True)
        (modules / name).write_text(text)
    (modules / "bin/npm-cli.js").chmod(0o755)
    (world.tools / "npm").symlink_to(modules / "bin/npm-cli.js")
    assert world.dokimon("verify").status == 0
    ended = world.dokimon("verify", "--suppose", "node=18.20.4")
    assert ended.status == 1 and "18.20.4 is reached" in ended.out


@pytest.mark.parametrize(
    "supposed, says",
    [
        ("node", "supposes nothing"), ("=3", "supposes nothing"), ("node=", "supposes nothing"),
        ("node=abc", "'abc' is no version"),
        ("nide=3", "the catalogue has no tool 'nide'; did you mean node?"), ("node=1 2", "is no version"),
        ("\x1b[31m=1", "has no tool"),
    ],
)  # fmt: skip
def test_what_supposes_nothing_is_refused(world: World, supposed: str, says: str) -> None:
    world.write({"dokimon.toml": NEEDS})
    ended = world.dokimon("verify", "--suppose", supposed)
    assert (ended.status, ended.out) == (2, "") and says in ended.err and "\x1b" not in ended.err


# -- from a clean clone


def commit(world: World, files: dict[str, str | bytes], *, ignored: str = "") -> None:
    """Make the checkout a repository with these files."""
    world.write({**files, ".gitignore": ignored})
    for arguments in (["init", "-q"], ["add", "-A"], ["commit", "-q", "-m", "x"]):
        named = ["-c", "user.email=gull@example.org", "-c", "user.name=Gull", *arguments]
        subprocess.run(["git", *named], cwd=world.checkout, check=True, capture_output=True)


def board(code: str) -> dict[str, str | bytes]:
    """Return a project whose server first carries out some code."""
    run = f"import sys, runpy\n{code}\nrunpy.run_path({str(STANDINS / 'server.py')!r}, run_name='__main__')\n"
    return {
        "board.py": run,
        "dokimon.toml": 'format = 1\n[[run]]\nname = "board"\ncommand = "python board.py {port}"\nport = "any"\n',
    }


def state(folder: Path) -> dict[str, tuple[int, int]]:
    return {
        str(path): ((at := path.lstat()).st_size, at.st_mtime_ns) for path in folder.rglob("*") if not path.is_dir()
    }


def clones(world: World) -> list[Path]:
    return list((world.home / ".cache/dokimon/clones").glob("*"))


@pytest.mark.parametrize(
    "code, more, ignored, lacks",
    [
        ("import quay", {"quay.py": "PIER = 1"}, "", ["quay.py is not committed"]),
        ("open('data/tides.txt')", {"data/tides.txt": "x"}, "data\n", ["data/tides.txt is not committed"]),
        ("import os; os.environ['TIDE_SERVICE']", {}, "", ["it needs the variable TIDE_SERVICE, which your shell sets"]),
        ("import os\nfor line in open('.env'): os.environ.setdefault(*line.split('='))", {".env": "PIER=1"}, ".env\n",
            [".env is not committed"]),
        ("import os\nif os.path.exists('.env'): os.environ['PIER'] = '1'\nos.environ['PIER']", {".env": "PIER=1"}, ".env\n",
            ["it needs the variable PIER, which only .env sets"]),
        ("raise SystemExit(3)", {"other.py": "x"}, "", []),
    ],
)  # fmt: skip
def test_what_a_clone_lacks_is_named(
    world: World, code: str, more: dict[str, str | bytes], ignored: str, lacks: list[str]
) -> None:
    world.environment["TIDE_SERVICE"] = "http://127.0.0.1:9/"
    commit(world, board(code), ignored=ignored)
    world.write(more)
    before = state(world.checkout)
    report = world.dokimon("smoke", "--clone", "-f", "json").report
    assert report["verdict"] == "failed" and report["from_clone"].get("lacks", []) == lacks
    assert report["project"] == {"root": str(world.checkout), "name": "checkout"}
    assert "/clones/" not in json.dumps(report) and Path(report["runs"][0]["log"]).is_file()
    assert state(world.checkout) == before and clones(world) == []


def test_what_is_committed_starts_and_what_is_staged_too(world: World) -> None:
    commit(world, board("import quay") | {"quay.py": "PIER = 1"})
    ended = world.dokimon("smoke", "--clone")
    assert ended.status == 0 and "this was a clone of commit" in ended.out
    world.write({"quay.py": "raise SystemExit('staged')"})
    subprocess.run(["git", "add", "quay.py"], cwd=world.checkout, check=True)
    world.write({"quay.py": "PIER = 1"})
    index = (world.checkout / ".git/index").read_bytes()
    assert world.dokimon("smoke", "--clone").status == 0
    assert world.dokimon("smoke", "--clone", "--staged").status == 1
    assert world.dokimon("smoke").status == 0
    assert (world.checkout / ".git/index").read_bytes() == index and clones(world) == []
    assert not (world.checkout / ".git/worktrees").exists()
    told = world.dokimon("smoke", "--clone", "--staged", "-f", "markdown").out
    assert ", with what is staged, with an empty home." in told
    assert len(json.loads(world.dokimon("history", "-f", "json").out)["lines"]) == 1  # a clone leaves no record


def test_without_git_the_folder_is_copied_and_that_is_said(world: World) -> None:
    world.write({**board("import quay"), "quay.py": "", ".env": "PIER=1", "node_modules/x.js": ""})
    os.mkfifo(world.checkout / "pipe")
    (world.checkout / "out").symlink_to("/etc")
    ended = world.dokimon("smoke", "--clone")
    assert ended.status == 0 and "a copy of the folder" in ended.out and "nobody knows what" in ended.out
    refused = world.dokimon("smoke", "--clone", "--staged")
    assert refused.status == 2 and "--staged wants a repository" in refused.err


def test_a_project_in_a_repository_in_a_worktree_or_cut_off_is_cloned_with_it(world: World) -> None:
    commit(world, {f"services/board/{name}": text for name, text in board("import sys; sys.path.append('..')").items()})
    git = ["git", "-c", "user.email=gull@example.org", "-c", "user.name=Gull"]
    subprocess.run([*git, "commit", "-q", "--allow-empty", "-m", "y"], cwd=world.checkout, check=True)
    tree, shallow = world.home / "tree", world.home / "shallow"
    subprocess.run([*git, "worktree", "add", "-q", str(tree)], cwd=world.checkout, check=True, capture_output=True)
    subprocess.run([*git, "clone", "-q", "--depth", "1", f"file://{world.checkout}", str(shallow)], check=True)
    before = sorted(path.name for path in (world.checkout / ".git/worktrees").iterdir())
    for root in (world.checkout, tree, shallow):
        report = world.dokimon("smoke", "--clone", "-f", "json", cwd=root / "services/board").report
        assert report["verdict"] == "passed" and report["from_clone"]["commit"], report["from_clone"]
    assert sorted(path.name for path in (world.checkout / ".git/worktrees").iterdir()) == before == ["tree"]


def test_nothing_of_a_clone_is_left_when_its_maker_is_killed(world: World) -> None:
    mark = world.home / "up.mark"
    commit(world, board(f"open({str(mark)!r}, 'w')"))
    process = world.start("smoke", "--clone", "--keep")
    wait_for(mark)
    (kept,) = clones(world)
    os.kill(process.pid, signal.SIGKILL)
    process.communicate()
    until = time.monotonic() + 10
    while kept.exists() and time.monotonic() < until:  # what watches over it removes it, and ends
        time.sleep(0.05)
    assert clones(world) == []
    (kept / "held").parent.mkdir()
    (kept / "held").write_text("")  # where that was killed too, the next one does it
    mark.unlink()
    assert world.dokimon("smoke", "--clone").status == 0
    assert clones(world) == []
    mark.unlink()
    process = world.start("smoke", "--clone", "--keep")
    wait_for(mark)
    time.sleep(0.2)
    process.send_signal(signal.SIGINT)
    process.communicate(timeout=30)
    assert clones(world) == []


def git(folder: Path, *arguments: str) -> str:
    named = ["-c", "user.email=gull@example.org", "-c", "user.name=Gull", "-c", "protocol.file.allow=always"]
    return subprocess.run(
        ["git", *named, *arguments],
        cwd=folder,
        check=True,
        capture_output=True,
        text=True,
        env={**os.environ, "HOME": "/"},
    ).stdout


def test_submodules_and_large_files_that_are_here_are_in_the_clone(world: World) -> None:
    pier, quay = world.home / "pier", world.home / "quay"
    for folder, name in ((pier, "pier.py"), (quay, "quay.py")):
        folder.mkdir()
        git(folder, "init", "-q")
        (folder / name).write_text("HEIGHT = 3\n")
        git(folder, "add", "-A")
        git(folder, "commit", "-q", "-m", "x")
    git(pier, "submodule", "--quiet", "add", str(quay), "quay")
    git(pier, "commit", "-q", "-m", "with a quay")
    code = (
        "import sys; sys.path += ['pier', 'pier/quay']\nimport pier, quay\n"
        "assert open('chart.bin').read() == 'soundings'\nassert 'git-lfs' in open('far.bin').read()"
    )
    digest = "5b" * 32
    pointer = "version https://git-lfs.github.com/spec/v1\noid sha256:{}\nsize 9\n"
    commit(world, board(code) | {".gitattributes": "*.bin filter=lfs\n", "chart.bin": pointer.format(digest),
                                 "far.bin": pointer.format("00" * 32)})  # fmt: skip
    git(world.checkout, "submodule", "--quiet", "add", str(pier), "pier")
    git(world.checkout, "submodule", "--quiet", "update", "--init", "--recursive")
    git(world.checkout, "commit", "-q", "-m", "with a pier")
    content = world.checkout / ".git/lfs/objects" / digest[:2] / digest[2:4] / digest
    content.parent.mkdir(parents=True)
    content.write_text("soundings")
    before = state(world.checkout)
    report = world.dokimon("smoke", "--clone", "-f", "json").report
    assert report["verdict"] == "passed" and state(world.checkout) == before
    assert report["from_clone"]["notes"] == ["1 file that LFS keeps is a pointer in the clone: not fetched here"]
    for path in (world.checkout / "pier/quay", world.checkout / ".git/modules/pier/modules"):
        shutil.rmtree(path)
    notes = world.dokimon("smoke", "--clone", "-f", "json").report["from_clone"]["notes"]
    assert "the submodule quay is not in the clone: it is not fetched here" in notes


def test_a_bare_repository_is_cloned_too(world: World) -> None:
    commit(world, board(""))
    bare = world.home / "bare.git"
    git(world.home, "clone", "-q", "--bare", str(world.checkout), str(bare))
    report = world.dokimon("smoke", "--clone", "-f", "json", cwd=bare).report
    assert report["verdict"] == "passed" and report["from_clone"]["commit"]


def test_what_stands_against_every_version_is_said_once(world: World) -> None:
    versions(world, "20.18.0", "22.11.0")
    commit(world, {"notes.txt": "nothing to start"})
    ended = world.dokimon("smoke", "--across", "node")
    assert ended.status == 2 and "found no way to start the project in <clone>" in ended.err
    assert ended.err.count("clone: what is committed") == 1
    assert "names no version" in world.dokimon("smoke", "--across", "node", "--only", "").err


def test_a_file_that_is_committed_in_other_letters_is_named(world: World) -> None:
    commit(world, board("open('data/tides.txt')") | {"data/Tides.txt": "x"})
    (world.checkout / "data/Tides.txt").rename(world.checkout / "data/tides.txt")
    (lack,) = world.dokimon("smoke", "--clone", "-f", "json").report["from_clone"]["lacks"]
    assert lack.startswith("data/tides.txt is committed as Tides.txt: upper and lower case")


def test_a_clone_has_an_empty_home_and_this_machines_tools(world: World) -> None:
    home = world.home / ".pyenv"
    home.mkdir()
    (world.home / ".quayrc").write_text("")
    code = (
        "import os\nassert not os.path.exists(os.path.expanduser('~/.quayrc'))\n"
        f"assert os.environ['PYENV_ROOT'] == {str(home)!r} and 'PIER' not in os.environ and 'PATH' in os.environ"
    )
    world.environment["PIER"] = "1"
    commit(world, board(code))
    assert world.dokimon("smoke", "--clone", "--empty").status == 0


@pytest.mark.parametrize(
    "options, says",
    [
        (["--staged"], "call it with --clone"),
        (["--empty"], "call it with --clone"),
        (["--clone", "--show-plan"], "one of them"),
    ],
)
def test_clones_that_cannot_be_meant(world: World, options: list[str], says: str) -> None:
    world.write({"dokimon.toml": "format = 1\n"})
    ended = world.dokimon("smoke", *options)
    assert (ended.status, ended.out) == (2, "") and says in ended.err


# -- under every version that is here


def versions(world: World, *numbers: str) -> None:
    """Put stand-ins of Node.js where a version manager keeps them: each says its version, and runs a script by Python."""
    for number in numbers:
        script = f'[ "$1" = --version ] && echo v{number} && exit; NODE={number} exec python "$@"'
        world.tool("node", script, world.home / f".nvm/versions/node/v{number}/bin")


def asking(least: str, most: str) -> dict[str, str | bytes]:
    """Return a project that declares a range of Node.js, and does not work below 20."""
    code = "import os\nif int(os.environ['NODE'].split('.')[0]) < 20: raise SystemExit('File is not defined')"
    files = board(code)
    settings = str(files["dokimon.toml"]).replace("python board.py", "node board.py")
    return files | {"dokimon.toml": f'{settings}[[need]]\ntool = "node"\nversion = ">={least}, <{most}"\n'}


@pytest.mark.parametrize(
    "tried, verdict, says",
    [
        ("!18 20 22", "failed", "the declared lower end is not true; what is proven here begins with node 20.1.0"),
        ("18 20 !22", "failed", "the declared upper end is not true; what is proven here ends with node 20.1.0"),
        ("18 !20 22", "failed", "the declared range is not true of 20.1.0"),
        ("!18 !20", "failed", "no version that is declared passes here"),
        ("(!18) 20 22", "passed", "what is declared is true of every version of it that is here (20.1.0 and 22.1.0)"),
        ("20 (22)", "passed", "it also passes with 22.1.0, which the declaration leaves out"),
        ("(!18) (20)", "unsure", "no version that is declared is here: of 19 or so nothing is proven"),
        ("?18 20", "unsure", "node 19 or so is declared: passes with 20.1.0; does not pass with 18.1.0 (18.1.0: x)"),
        ("", "unsure", "no copy of node that can be run is here: nothing was tried"),
    ],
)  # fmt: skip
def test_what_is_proven_is_said_in_a_sentence(tried: str, verdict: str, says: str) -> None:
    """A version that failed has `!` before it, one that stayed open `?`; those in brackets are not declared."""
    made = [
        Tried(
            version=f"{bare.strip('!?')}.1.0", path="", declared=not each.startswith("("),
            cause=None if bare.isdigit() else "x",
            verdict={"!": "failed", "?": "unsure"}.get(bare[0], "passed"),  # type: ignore[arg-type]
        )
        for each in tried.split() for bare in [each.strip("()")]
    ]  # fmt: skip
    assert verdict_of(made) == verdict and says in sentences("node", "19 or so", made)


def test_a_range_is_tried_under_every_version_of_it_and_drawn_in_every_form(world: World) -> None:
    versions(world, "18.20.4", "20.18.0")
    commit(world, asking("18", "23"))
    ended = world.dokimon("smoke", "--across", "node", "-f", "json", "-o", "../across.json", seconds=120)
    assert ended.status == 1 and clones(world) == []
    for form, says in (
        ("table", "18.20.4  yes       failed"),
        ("table", "begins with node 20.18.0"),
        ("table", "20.18.0  yes       passed"),
        ("markdown", "| 18.20.4 | yes | failed |"),
        ("html", "Under every version of node"),
        ("junit", 'name="node 18.20.4"'),
    ):
        assert says in world.dokimon("show", "../across.json", "-f", form).out


def test_each_version_can_be_a_job_of_its_own_and_their_reports_are_put_together(world: World) -> None:
    versions(world, "18.20.4", "20.18.0")
    commit(world, asking("18", "23"))
    jobs = json.loads(world.dokimon("smoke", "--across", "node", "--list").out)["include"]
    assert jobs == [
        {"tool": "node", "version": version, "only": f"node {version}"} for version in ("18.20.4", "20.18.0")
    ]
    files = []
    for job in jobs:
        files.append(world.home / f"{job['version']}.json")
        world.dokimon("smoke", "--across", "node", "--only", job["only"], "-f", "json", "-o", files[-1])
    together = world.dokimon("show", *files)
    assert (
        together.status == 0
        and "18.20.4  yes       failed" in together.out
        and "begins with node 20.18.0" in together.out
    )
    world.dokimon("verify", "-f", "json", "-o", world.home / "verify.json")
    for wrong in ([files[0], world.home / "verify.json"], [files[0], "gone.json"]):
        assert world.dokimon("show", *wrong).status == 2
    refused = world.dokimon("smoke", "--across", "node", "--only", "22.1.0")
    assert refused.status == 2 and "there is: 18.20.4, 20.18.0" in refused.err
    assert world.dokimon("smoke", "--list").status == 2


@pytest.mark.parametrize(
    "options, says",
    [(["nide"], "did you mean node?"), (["node", "--keep"], "without --keep"), (["ruby"], None)],
)
def test_what_cannot_be_tried(world: World, options: list[str], says: str | None) -> None:
    commit(world, board(""))
    ended = world.dokimon("smoke", "--across", *options)
    if says:
        assert (ended.status, ended.out) == (2, "") and says in ended.err
    else:
        assert ended.status == 3 and "no copy of ruby that can be run is here" in ended.out


@pytest.mark.parametrize("port", ["any", "{free}"])
def test_side_by_side_no_two_have_the_same_port(world: World, port: str) -> None:
    """Each version passes, whether Dokimon gives ports out or the project has one of its own, that it must have alone."""
    versions(world, "18.20.4", "20.18.0", "22.11.0")
    files = asking("20", "23")
    number = port.format(free=free_port())
    settings = str(files["dokimon.toml"]).replace('"any"', number if number != "any" else '"any"')
    commit(world, files | {"dokimon.toml": settings.replace("{port}", "{port}" if number == "any" else number)})
    report = world.dokimon("smoke", "--across", "node", "--jobs", "3", "-f", "json", seconds=120).report
    assert [(each["version"], each["verdict"], each["declared"]) for each in report["across"]["tried"]] == [
        ("18.20.4", "failed", False), ("20.18.0", "passed", True), ("22.11.0", "passed", True),
    ]  # fmt: skip
    assert clones(world) == []


@pytest.mark.parametrize("without_room, raises", [({2}, False), ({1, 3}, False), ({1, 2, 3}, True)])
def test_a_clone_that_cannot_be_made_ends_no_other(
    world: World, monkeypatch: pytest.MonkeyPatch, without_room: set[int], raises: bool
) -> None:
    versions(world, "18.20.4", "20.18.0", "22.11.0")
    commit(world, asking("18", "23"))
    numbers = itertools.count(1)

    def clone(*_: object) -> Report:
        if next(numbers) in without_room:
            raise CloneFault("the disk is full")
        project = Project(root="", name="quay")
        return Report(format=FORMAT, minor=0, command="smoke", verdict="passed", project=project, requirements=())

    monkeypatch.setattr(across, "smoke_clone", clone)
    monkeypatch.setenv("DOKIMON_ROOT", world.environment["DOKIMON_ROOT"])
    wish = AcrossOptions(tools=("node",), at_once=2)
    call = (world.checkout, world.environment, SmokeOptions(), CloneOptions(), wish, threading.Event(), Watcher())
    if raises:
        with pytest.raises(CloneFault, match="the disk is full"):
            across.smoke_across(*call)
        return
    found = across.smoke_across(*call).across
    assert found and sorted(each.cause or "" for each in found.tried)[-len(without_room) :] == [
        "the disk is full"
    ] * len(without_room)


def pairs(world: World) -> None:
    """Make a project that fails under two versions of two tools together, and under one of each alone."""
    versions(world, "20.18.0", "22.11.0")
    for number in ("3.2.5", "3.3.6"):
        script = f'[ "$1" = --version ] && echo ruby {number} && exit; echo {number}'
        world.tool("ruby", script, world.home / f".rbenv/versions/{number}/bin")
    code = "import os, subprocess\npair = os.environ['NODE'] + subprocess.run('ruby', capture_output=True, text=True).stdout"
    files = board(f"{code}\nif pair.strip() in ('22.11.03.2.5',): raise SystemExit('a tide too high')")
    settings = str(files["dokimon.toml"]).replace("python board.py", "node board.py")
    needs = "".join(f'[[need]]\ntool = "{tool}"\nversion = ">={low}"\n' for tool, low in (("node", 20), ("ruby", 3)))
    commit(world, files | {"dokimon.toml": settings + needs})


def test_several_tools_are_tried_in_pairs(world: World) -> None:
    pairs(world)
    both = ("smoke", "--across", "node", "--across", "ruby")
    every = json.loads(world.dokimon(*both, "--all-pairs", "--list").out)["include"]
    assert [each["only"] for each in every] == [
        f"node {node}, ruby {ruby}" for node in ("20.18.0", "22.11.0") for ruby in ("3.2.5", "3.3.6")
    ]
    alone = json.loads(world.dokimon(*both, "--list").out)["include"]
    assert len(alone) == 3  # each version with the newest of the other, for none is reached
    report = world.dokimon(*both, "--all-pairs", "-j", "2", "-f", "json", "-o", "../pairs.json", seconds=120)
    assert report.status == 1
    drawn = world.dokimon("show", "../pairs.json").out
    assert "node 22.11.0 and ruby 3.2.5 each pass, but not together" in drawn
    assert "ruby 3 or newer is declared: passes with 3.2.5 and 3.3.6" in drawn
    assert "| 22.11.0 | 3.2.5 | yes | failed |" in world.dokimon("show", "../pairs.json", "-f", "markdown").out
    wished = world.dokimon(*both, "--only", "ruby 3.3.6, node 20.18.0", "-f", "json", seconds=60).report["across"]
    (tried,) = wished["tried"]
    assert (tried["version"], tried["beside"][0]["version"], tried["verdict"]) == ("20.18.0", "3.3.6", "passed")
    for wrong in ("20.18.0", "perl 5", "node 20.18.0, ruby 9"):
        assert world.dokimon(*both, "--only", wrong).status == 2


def test_what_is_declared_and_not_here_is_said_with_how_to_get_it(world: World) -> None:
    versions(world, "20.18.0")
    (world.home / ".nvm/nvm.sh").write_text("")
    commit(world, asking("18.17", "23"))
    ended = world.dokimon("smoke", "--across", "node", seconds=60)
    assert re.search(r"not tried, as no copy is here: node 18\.17; to get one: nvm install 18", ended.out)


def test_what_would_be_declared_by_what_was_proven_is_a_patch(world: World) -> None:
    refused = world.dokimon("needs", "--suggest")
    assert refused.status == 2 and "nothing was proven of this checkout yet" in refused.err
    versions(world, "18.20.4", "20.18.0", "22.11.0")
    commit(world, asking("18", "23"))
    world.dokimon("smoke", "--across", "node", "-f", "json", "-o", "../across.json", seconds=120)
    world.dokimon("smoke", "--across", "node", "--only", "22.11.0", seconds=60)  # joins what was proven of this commit
    before = state(world.checkout)
    for more in ((), ("--by", "../across.json")):
        ended = world.dokimon("needs", "--suggest", *more)
        assert ended.status == 0 and '+version = ">=20.18.0, <23"' in ended.out and state(world.checkout) == before
        patch = subprocess.run(["git", "apply", "--check"], input=ended.out, text=True, cwd=world.checkout, check=False)
        assert patch.returncode == 0
    report = world.dokimon("needs", "--suggest", "-f", "json").report["suggested"]
    assert report["suggestions"][0]["after"] == ">=20.18.0, <23" and report["change"]
    assert world.dokimon("needs", "--by", "../across.json").status == 2
    assert "dokimon.toml is not JSON" in world.dokimon("needs", "--suggest", "--by", "dokimon.toml").err


# -- a folder of projects


def fleet(world: World) -> Path:
    """Make a folder of projects, one of which cannot be met here, and one whose settings cannot be used."""
    folder = world.home / "fleet"
    for name, text in {
        "board/dokimon.toml": 'format = 1\n[[need]]\ntool = "git"\n',
        "harbour/tides/dokimon.toml": 'format = 1\n[[need]]\ntool = "node"\nversion = ">=20"\n',
        "harbour/quay/dokimon.toml": "format = 1\nbad = 2\n",
        "board/node_modules/x/package.json": "{}",
        ".hidden/package.json": "{}",
        "empty/notes.txt": "",
    }.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(text)
    return folder


def test_each_checkout_may_ask_a_command_in_its_own_way(world: World) -> None:
    """What is looked up once for all does not mix the questions of two checkouts that name the same command."""
    world.tool("lantern", '[ "$1" = -V ] && echo 2.5 || echo 1.5')
    for name, question in (("one", "--version"), ("two", "-V")):
        text = f'[[tool]]\nname = "lantern"\nask = {{ arguments = ["{question}"] }}\n[[need]]\ntool = "lantern"\n'
        (world.home / "pier" / name).mkdir(parents=True)
        (world.home / "pier" / name / "dokimon.toml").write_text(f"format = 1\n{text}")
    ended = world.dokimon("verify", "--ask", "lantern", "-f", "json", cwd=world.home / "pier")
    assert [each["requirements"][0]["found"]["version"] for each in json.loads(ended.out)] == ["1.5", "2.5"]


def test_a_folder_of_projects_has_a_row_for_each(world: World) -> None:
    folder = fleet(world)
    world.tool("node", "echo v18.4.1")
    ended = world.dokimon("verify", cwd=folder)
    rows = [line.split()[0] for line in ended.out.splitlines() if line[:1].islower()]
    assert rows[:4] == ["project", "board", "harbour/quay", "harbour/tides"] and ended.status == 1
    assert ended.out.splitlines()[-2].startswith(
        "1 of 3 projects fit · first harbour/quay: dokimon.toml:2: unknown key"
    )
    assert "18.4.1 is too old" in ended.out
    read = json.loads(world.dokimon("verify", "-f", "json", cwd=folder).out)
    assert [report_in(json.dumps(each))["verdict"] for each in read] == ["met", "unknown", "unmet"]
    supposed = world.dokimon("verify", "--suppose", "node=22", cwd=folder)
    assert supposed.status == 3 and "2 of 3 projects fit" in supposed.out and "supposed: node 22.0.0" in supposed.out
    assert "──" in world.dokimon("verify", "--verbose", cwd=folder).out
    quiet = world.dokimon("verify", "--quiet", "--suppose", "node=22", cwd=folder).out
    assert "harbour/quay" in quiet and "harbour/tides" not in quiet


def test_several_paths_and_the_needs_of_all(world: World) -> None:
    folder = fleet(world)
    named = world.dokimon("verify", folder / "board", folder / "harbour/tides")
    assert "board" in named.out and "1 of 2 projects fit" in named.out and named.status == 1
    assert world.dokimon("verify", folder / "board").out.count("git") > 1  # one alone is shown whole
    needs = world.dokimon("needs", cwd=folder)
    assert needs.status == 3 and "2 of 3 projects agree" in needs.out
    refused = world.dokimon("verify", "-f", "junit", cwd=folder)
    assert (refused.status, refused.out) == (2, "") and "takes one project" in refused.err
    assert "## dokimon verify" in world.dokimon("verify", "-f", "markdown", cwd=folder).out


def test_who_needs_a_tool_and_which_copies_nobody_reaches(world: World) -> None:
    folder = fleet(world)
    world.tool("node", "echo v20.4.1")
    versions(world, "16.1.0")
    ended = world.dokimon("tools", "node", "--needed-by", folder)
    assert ended.status == 0 and re.search(r"harbour/tides\s+node 20 or newer\s+20.4.1\s+\S+/node\s+met", ended.out), (
        ended.out
    )
    assert "node/v16.1.0/bin/node (16.1.0)" in ended.out.partition("no checkout below")[2]
    assert "harbour/quay: dokimon.toml:2: unknown key" in ended.out
    report = world.dokimon("tools", "node", "git", "--needed-by", folder, "-f", "json").report
    assert [(each["project"], each["tool"]) for each in report["needed_by"]] == [
        ("board", "git"),
        ("harbour/tides", "node"),
    ]
    refused = world.dokimon("tools", "--needed-by", folder)
    assert refused.status == 2 and "name one" in refused.err


@pytest.mark.parametrize("jobs", [1, 3])
def test_several_projects_are_smoke_checked_in_one_call(world: World, jobs: int) -> None:
    """Two have the same port of their own; what fails, what cannot be started and what is not fit hides no other."""
    folder, port = world.home / "fleet", free_port()
    files = board("")
    settings = str(files["dokimon.toml"]).replace('"any"', str(port)).replace("{port}", str(port))
    for name, text in {
        "ferry/dokimon.toml": settings,
        "ferry/board.py": files["board.py"],
        "quay/dokimon.toml": settings,
        "quay/board.py": files["board.py"],
        "lost/dokimon.toml": 'format = 1\n[[run]]\nname = "lost"\ncommand = "python gone.py"\n',
        "none/dokimon.toml": "format = 1\n",
        "unfit/dokimon.toml": 'format = 1\n[[need]]\ntool = "node"\nversion = "99"\n',
    }.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(str(text))
    ended = world.dokimon("smoke", *(["--jobs", str(jobs)] if jobs > 1 else []), "-f", "json", cwd=folder, seconds=120)
    assert [(Path(each["project"]["root"]).name, each["verdict"]) for each in json.loads(ended.out)] == [
        ("ferry", "passed"), ("lost", "failed"), ("none", "unsure"), ("quay", "passed"), ("unfit", "unmet"),
    ]  # fmt: skip
    assert ended.status == 1 and not strangers(port)
    if jobs == 1:
        planned = world.dokimon("smoke", "--show-plan", cwd=folder)
        assert planned.status == 3 and "python board.py" in planned.out and "3 of 5 projects fit" in planned.out
        some = world.dokimon("smoke", "ferry", "quay", cwd=folder)
        assert some.status == 0 and "2 of 2 projects passed" in some.out
        for options in (["--keep"], ["--across", "node"]):
            assert "about one project" in world.dokimon("smoke", *options, cwd=folder).err
        assert world.dokimon("smoke", "--jobs", "2", cwd=folder / "ferry").status == 2
