"""A checkout that wants to be run: what the kernel saw of `verify`, `tools` and `path` in it."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import DOKIMON, World, surveyor
from dokimon.core.machine.asking import Asker
from dokimon.core.machine.catalogue import Ask
from dokimon.core.machine.folders import matching

NAMES = (
    "node",
    "npm",
    "yarn",
    "git",
    "python",
    "python3",
    "java",
    "mvn",
    "gradle",
    "rustc",
    "cargo",
    "php",
    "go",
    "ruby",
    "uname",
    "stty",
    "dirname",
    "readlink",
    "sh",
    "env",
)

TOOLS = [
    "git",
    "node",
    "npm",
    "python",
    "pip",
    "java",
    "javac",
    "maven",
    "gradle",
    "php",
    "composer",
    "rustc",
    "cargo",
    "rustup",
    "go",
    "ruby",
    "gem",
    "gcc",
    "cmake",
]

CALLS = (
    "execve,execveat,connect,openat,open,creat,rename,renameat,renameat2,unlink,unlinkat,mkdir,mkdirat,rmdir,"
    "symlink,symlinkat,link,linkat,chmod,fchmodat,truncate,sendto"
)


@pytest.fixture
def hostile(world: World) -> World:
    """Programs of all names at every place where they might be found, and settings that tools are known to obey."""
    evil = world.checkout / "evil"
    for folder in ("", "bin", "node_modules/.bin", "vendor/bin", ".venv/bin", "evil/bin"):
        for name in NAMES:
            world.tool(name, f"touch {world.home}/was-run; echo v99.0.0", world.checkout / folder)
    for hook in ("post-checkout", "pre-commit", "fsmonitor-watchman"):
        world.tool(hook, f"touch {world.home}/was-run", world.checkout / ".git/hooks")
    needs = "".join(f'[[need]]\ntool = "{name}"\n' for name in ("git", "go", "ruby", "./npm", "evil", "gradle", "yarn"))
    world.write(
        {
            ".git/config": f"[core]\n\tfsmonitor = {evil}/bin/sh\n\tpager = {evil}/bin/sh\n[alias]\n\tversion = "
            f"!{evil}/bin/sh\n",
            ".npmrc": f"node-options=--require={evil}/x.js\nscript-shell={evil}/bin/sh\n",
            ".yarnrc": f'yarn-path "{evil}/x.js"\n',
            ".yarnrc.yml": "yarnPath: evil/x.js\n",
            ".mvn/jvm.config": f"-javaagent:{evil}/x.jar\n",
            ".mvn/wrapper/maven-wrapper.properties": "distributionUrl=https://saltmarsh.example/maven.zip\n",
            "gradle.properties": f"org.gradle.java.home={evil}\n",
            ".python-version": "../../../../../../../checkout/evil\n",
            "rust-toolchain.toml": '[toolchain]\npath = "./evil"\n',
            ".tool-versions": f"nodejs path:{evil}\nphp ref:x\n",
            "package.json": '{"engines": {"node": ">=1", "npm": ">=1"}, "packageManager": "yarn@4.0.0"}',
            "pyproject.toml": '[project]\nname = "x"\nrequires-python = ">=3.1"\n',
            "pom.xml": "<project><properties><maven.compiler.release>17</maven.compiler.release></properties></project>",
            "composer.json": '{"require": {"php": ">=7", "ext-mbstring": "*"}}',
            "evil/x.js": "require('fs').writeFileSync('was-run', '')",
            "sitecustomize.py": "open('was-run', 'w')",
            "dokimon.toml": f'format = 1\n[[tool]]\nname = "evil"\ncommands = ["evil"]\nhomes = ["{evil}/bin"]\n'
            f"{needs}",
        }
    )
    (world.tools / "npm").symlink_to(world.checkout / "npm")
    world.environment |= {
        "PATH": f"::.:bin:{world.checkout}/node_modules/.bin:{evil}/bin:{world.tools}:{os.environ['PATH']}",
        "NODE_OPTIONS": "--require=./evil/x.js",
        "BASH_ENV": f"{evil}/x.js",
        # Not PYTHONPATH: with that, Python itself loads what it names before Dokimon begins.
        "JAVA_TOOL_OPTIONS": f"-javaagent:{evil}/x.jar",
        "RUBYOPT": "-r./evil/x",
        "PHPRC": ".",
        "LD_PRELOAD": "",
        "GIT_CONFIG_COUNT": "0",
    }
    return world


@pytest.mark.skipif(not shutil.which("strace"), reason="no strace on this machine")
@pytest.mark.parametrize("arguments", [["verify", "--fresh"], ["tools", *TOOLS], ["path"], ["verify", "--pick"]])
def test_looking_runs_nothing_of_the_checkout_connects_to_nothing_and_writes_only_its_cache(
    hostile: World, arguments: list[str]
) -> None:
    before = {path: path.lstat().st_mtime_ns for path in hostile.checkout.rglob("*")}
    trace = hostile.home / "trace"
    traced = ["strace", "-f", "-qq", "-s", "512", "-e", f"trace={CALLS}", "-o", str(trace), str(DOKIMON), *arguments]
    ended = subprocess.run(
        traced, cwd=hostile.checkout, env=hostile.environment, capture_output=True, text=True, check=False, timeout=300
    )
    assert "Traceback" not in ended.stderr and ended.stdout, ended
    calls = trace.read_text(errors="replace").splitlines()
    assert sum("execve(" in call for call in calls) > 3, "nothing was asked at all"
    assert not (hostile.home / "was-run").exists()
    assert {path: path.lstat().st_mtime_ns for path in hostile.checkout.rglob("*")} == before
    for call in calls:
        name, _, rest = call.partition(" ")[2].strip().partition("(")
        named = re.findall(r'"((?:[^"\\]|\\.)*)"', rest.partition("[")[0] if name.startswith("exec") else rest)
        if name.startswith("execve"):
            assert named[0].startswith("/") and not named[0].startswith(str(hostile.checkout)), call
        elif name in ("connect", "sendto"):
            # A tool of the catalogue may look at this machine; none of these is what `verify` asks about here.
            assert "AF_INET" not in rest or ("127.0.0.1" in rest and "tools" in arguments), call
        elif "= -1" in rest:
            continue
        elif name.startswith("symlink"):  # what it leads to is not written
            assert _may_be_written(Path(named[-1]), hostile), call
            assert not named[0].startswith(str(hostile.checkout)), call
        elif not name.startswith("open") or re.search(r"O_WRONLY|O_RDWR|O_CREAT|O_TRUNC", rest):
            assert all(_may_be_written(Path(path), hostile) for path in named), call


def _may_be_written(path: Path, world: World) -> bool:
    """Dokimon's own cache and records; what is no file at all; what Python compiles of Dokimon itself the first time."""
    cache, state = world.home / ".cache/dokimon", world.home / ".local/state/dokimon"
    nothing_kept = path.parts[1:2] in (("dev",), ("proc",))
    own = path.is_relative_to(cache) or path.is_relative_to(state) or path in (cache.parent, *state.parents[:2])
    return own or nothing_kept or "__pycache__" in path.parts


def _linked(world: World) -> None:
    """A link outside the checkout to a folder in it."""
    world.tool("git", f"touch {world.home}/was-run; echo git version 2.40.1", world.checkout / "bin")
    (world.home / "alias").symlink_to(world.checkout / "bin")
    world.environment["PATH"] = f"{world.home}/alias:{world.basics}"


def _by_another_name(world: World) -> None:
    world.tool("git", f"touch {world.home}/was-run; echo git version 2.40.1", world.checkout / "bin")
    world.environment["PATH"] = f"/proc/self/root{world.checkout}/bin:/{world.checkout}/../checkout/bin:{world.basics}"


def _interpreter(world: World) -> None:
    world.tool("sh", f"touch {world.home}/was-run; echo git version 2.40.1", world.checkout / "bin")
    (world.tools / "git").write_text(f"#!{world.checkout}/bin/sh\n")
    (world.tools / "git").chmod(0o755)


def _interpreter_by_env_and_link(world: World) -> None:
    world.tool("sh", f"touch {world.home}/was-run; echo git version 2.40.1", world.checkout / "bin")
    (world.home / "sh").symlink_to(world.checkout / "bin/sh")
    (world.tools / "git").write_text(f"#!/usr/bin/env {world.home}/sh\n")
    (world.tools / "git").chmod(0o755)


def _wrapper(world: World) -> None:
    world.tool("git", f"touch {world.home}/was-run; echo git version 2.40.1", world.checkout / "bin")
    world.tool("git", f"exec {world.checkout}/bin/git")


def _nested_settings(world: World) -> None:
    """The settings of a part make it the root; its sibling is still the same repository."""
    world.tool("git", f"touch {world.home}/was-run; echo git version 2.40.1", world.checkout / "bin")
    world.write({"part/dokimon.toml": 'format = 1\n[[need]]\ntool = "git"\nversion = ">=1"\n'})
    world.environment["PATH"] = f"{world.checkout}/bin:{world.basics}"


@pytest.mark.parametrize(
    "attack", [_linked, _by_another_name, _interpreter, _interpreter_by_env_and_link, _wrapper, _nested_settings]
)
def test_no_other_name_of_the_checkout_gets_a_program_of_it_run(world: World, attack: Callable[[World], None]) -> None:
    world.write({"dokimon.toml": 'format = 1\n[[need]]\ntool = "git"\nversion = ">=1"\n'})
    attack(world)
    for folder in (world.checkout, world.checkout / "part"):
        if folder.is_dir():
            ended = world.dokimon("verify", "--fresh", cwd=folder)
            assert ended.status in (1, 3), ended
    assert not (world.home / "was-run").exists()


@pytest.mark.parametrize(
    "value", ["{checkout}/x", "-javaagent:{checkout}/x.jar", "{alias}/x", "/usr/lib:{alias}", "{real}/x"]
)
def test_no_variable_that_names_a_place_in_the_checkout_reaches_a_tool(world: World, value: str) -> None:
    seen = world.home / "seen"
    world.tool("git", f"env > {seen}; echo git version 2.40.1")
    (world.home / "alias").symlink_to(world.checkout)
    names = {"checkout": world.checkout, "alias": world.home / "alias", "real": world.checkout.resolve()}
    world.environment |= {"ANY_NAME": value.format(**names), "KEPT": "/usr/lib"}
    if value.endswith("/x"):
        world.environment["XDG_CONFIG_HOME"] = value.format(**names)
    world.write({"dokimon.toml": 'format = 1\n[[need]]\ntool = "git"\n'})
    assert world.dokimon("verify", "--fresh").status == 0
    given = dict(line.partition("=")[::2] for line in seen.read_text().splitlines())
    assert given.keys().isdisjoint({"ANY_NAME", "KEPT", "XDG_CONFIG_HOME"}) and given["HOME"] == str(world.home)


@pytest.mark.parametrize(
    "command, name, shim",
    [
        ("python", ".python-version", ".pyenv/shims"),
        ("node", ".node-version", ".nodenv/shims"),
        ("node", ".tool-versions", ".asdf/shims"),
        ("rustc", "rust-toolchain", None),
        ("yarn", "package.json", "corepack"),
    ],
)
def test_a_link_to_a_file_elsewhere_is_not_made_to_speak(
    world: World, command: str, name: str, shim: str | None
) -> None:
    secret = world.home / "secret"
    secret.write_text('nodejs squid-ink\nsquid-ink {"packageManager": "yarn@squid-ink"}')
    if name == "package.json":
        secret.write_text('{"packageManager": "yarn@squid-ink", "engines": {"node": "squid-ink"}}')
    (world.checkout / name).symlink_to(secret)
    folder = world.tools
    if shim is None:
        (world.tools / command).symlink_to(world.tool("rustup", "exit 1", world.home / ".cargo/bin"))
    elif shim == "corepack":
        (world.tools / command).symlink_to(world.tool("yarn.js", "", world.home / "lib/node_modules/corepack/dist"))
    else:
        folder = world.home / shim
        world.tool(command, f"# asdf-plugin: nodejs 1\nexec real {command}", folder)
    world.environment["PATH"] = f"{folder}:{world.basics}"
    for arguments in (["needs"], ["verify", "--verbose"], ["tools", command], ["verify", "--format", "json"]):
        ended = world.dokimon(*arguments)
        assert "squid" not in ended.out + ended.err, ended
    assert "out of the checkout" in world.dokimon("tools", command, "--format", "json").out


@pytest.mark.parametrize("home", ["/proc/*/root/**", "/proc/self/root/**/bin", "/**/bin"])
def test_a_home_that_could_be_anywhere_ends(world: World, home: str) -> None:
    begun = time.monotonic()
    found = matching(Path("/"), home[1:])
    assert time.monotonic() - begun < 8 and not any(str(path).startswith(("/proc/", "/sys/")) for path in found)


@pytest.mark.parametrize(
    "pattern, expected",
    [
        ("a/*/bin", ["a/v10/bin", "a/v9/bin"]),
        ("a/v9/bin", ["a/v9/bin"]),
        ("**/bin", ["bin", "a/v10/bin", "a/v9/bin"]),
        ("l*/*/bin", ["link/v10/bin", "link/v9/bin"]),
        ("a/v[0-8]*/bin", ["a/v10/bin"]),
        ("a/*/file", ["a/v9/file"]),
        ("none/*", []),
    ],
)
def test_wildcards_find_what_is_there_and_go_deep_through_no_link(
    tmp_path: Path, pattern: str, expected: list[str]
) -> None:
    for name in ("a/v9/bin", "a/v10/bin", "bin"):
        (tmp_path / name).mkdir(parents=True)
    (tmp_path / "a/v9/file").touch()
    (tmp_path / "link").symlink_to("a")
    assert [str(path.relative_to(tmp_path)) for path in matching(tmp_path, pattern)] == expected


@pytest.mark.parametrize(
    "value, kept",
    [("/opt/jdk", True), ("21", True), ("jdk", False), ("./jdk", False), ("{checkout}/jdk", False)],
)
def test_a_variable_that_the_catalogue_keeps_is_passed_on_where_it_is_a_place(
    world: World, value: str, kept: bool
) -> None:
    world.tool("mvn", "echo Apache Maven 3.9.6 seen=${JAVA_HOME-nothing}")
    world.environment |= {"JAVA_HOME": value.format(checkout=world.checkout), "MAVEN_OPTS": "-javaagent:/x.jar"}
    (copy,) = surveyor(world.checkout, world.checkout, world.environment).survey(["maven"]).installations["maven"]
    told = Asker(world.environment, world.checkout).version(
        Path(copy.path), Ask(pattern="(seen=.*)", keeps=["JAVA_HOME"])
    )
    assert (told.version != "seen=nothing") is kept


def test_folders_of_our_own_are_not_taken_from_the_checkout(world: World) -> None:
    """Where variables put them there (direnv and the like), whoever wrote the checkout would have filled them."""
    entry = json.dumps({"root": str(world.home), "file": "page.txt", "pid": 1, "started": 1.0})
    world.write(
        {
            "dokimon.toml": 'format = 1\n[[need]]\ntool = "tidectl"\nversion = ">=1"\n',
            ".config/dokimon/catalogue/tidectl.toml": 'name = "tidectl"\ntitle = "x"\nkind = "command"\n'
            'commands = ["tidectl"]\n',
            ".cache/dokimon/changes/1.json": entry,
            ".cache/dokimon/changes/1.was": "theirs",
            ".cache/dokimon/changes/1.set": "mine",
        }
    )
    for folder in (world.checkout / ".cache/dokimon/changes", world.checkout / ".cache/dokimon"):
        folder.chmod(0o700)
    (world.home / "page.txt").write_text("mine")
    world.tool("tidectl", f"touch {world.home}/was-run; echo tidectl 1.2")
    world.environment |= {
        "XDG_CONFIG_HOME": f"{world.checkout}/.config",
        "XDG_CACHE_HOME": f"{world.checkout}/.cache",
    }
    ended = world.dokimon("verify")
    assert ended.status == 3 and not (world.home / "was-run").exists(), ended
    assert (world.home / "page.txt").read_text() == "mine" and "restored" not in ended.err
