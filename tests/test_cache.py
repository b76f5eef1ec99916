"""Answers that are kept: never misread, never needed, never in the way."""

from __future__ import annotations

import os
import shutil
import sys
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from conftest import World, surveyor
from dokimon.core.machine.survey import Installation

pytestmark = pytest.mark.skipif(
    not Path("/bin/true").exists() or sys.platform == "win32", reason="needs a program that is no script"
)


def ask(world: World, cache: Path, tool: str = "git") -> Installation:
    environment = {**world.environment, "PATH": str(world.tools)}
    return surveyor(world.checkout, world.checkout, environment, cache=cache).survey([tool]).installations[tool][0]


@pytest.fixture
def program(world: World) -> Path:
    """A program that is no script and tells a version: the interpreter of this test, called git by a script in no way."""
    # `env` prints its own version for --version, in a form that the pattern of gawk-like tools reads.
    path = world.tools / "bash"
    shutil.copy2(shutil.which("bash") or "/bin/bash", path)
    return path


def test_an_answer_is_asked_for_once(world: World, tmp_path: Path, program: Path) -> None:
    cache = tmp_path / "cache"
    first, second = ask(world, cache, "bash"), ask(world, cache, "bash")
    assert (first.known_by, second.known_by, first.version) == ("asked", "cache", second.version)
    assert first.version and second.seconds is None
    assert [path.name for path in cache.iterdir()] == ["answers.json"]


@pytest.mark.parametrize(
    "upgrade",
    [
        lambda path: os.utime(path, ns=(1, 1)),
        lambda path: path.write_bytes(path.read_bytes() + b"\0"),
        lambda path: (path.rename(path.with_name("old")), shutil.copy2(path.with_name("old"), path)),
        lambda path: (path.chmod(0o700), path.chmod(0o755)),  # the time of its entry changes
    ],
)
def test_a_file_that_changed_in_any_way_is_asked_again(
    world: World, tmp_path: Path, program: Path, upgrade: Callable[[Path], None]
) -> None:
    ask(world, tmp_path / "cache", "bash")
    upgrade(program)
    assert ask(world, tmp_path / "cache", "bash").known_by == "asked"


def test_what_a_script_says_is_never_kept(world: World, tmp_path: Path) -> None:
    """A script may start another file, and that one may be upgraded alone."""
    world.tool("git-real", "echo git version 2.40.1", tmp_path)
    world.tool("git", f"exec {tmp_path}/git-real")
    assert ask(world, tmp_path / "cache").version == "2.40.1"
    world.tool("git-real", "echo git version 2.50.0", tmp_path)
    assert ask(world, tmp_path / "cache").version == "2.50.0"


@pytest.mark.parametrize(
    "content",
    [b"", b"\0\xff\xfe", b"{}", b"[1, 2]", b'{"written_by": "another", "answers": {}}',
        b'{"written_by": "0.1.0", "answers": {"x": 1}}', b"{" * 100_000],
)  # fmt: skip
def test_a_damaged_or_foreign_cache_is_made_anew(world: World, tmp_path: Path, program: Path, content: bytes) -> None:
    cache = tmp_path / "cache"
    ask(world, cache, "bash")
    (cache / "answers.json").write_bytes(content)
    assert ask(world, cache, "bash").known_by == "asked"
    assert ask(world, cache, "bash").known_by == "cache"


def test_an_answer_from_another_version_or_question_does_not_count(world: World, tmp_path: Path, program: Path) -> None:
    cache = tmp_path / "cache"
    ask(world, cache, "bash")
    kept = (cache / "answers.json").read_text()
    (cache / "answers.json").write_text(kept.replace('"written_by":"', '"written_by":"0.0.'))
    assert ask(world, cache, "bash").known_by == "asked"


def test_two_surveys_at_once_do_not_harm_it(world: World, tmp_path: Path, program: Path) -> None:
    cache = tmp_path / "cache"
    with ThreadPoolExecutor(8) as pool:
        found = list(pool.map(lambda _: ask(world, cache, "bash").version, range(24)))
    assert len(set(found)) == 1 and ask(world, cache, "bash").known_by == "cache"
    assert [path.name for path in cache.iterdir()] == ["answers.json"]


def test_what_a_program_has_loaded_is_asked_each_time(world: World, program: Path) -> None:
    """An extension that was installed a moment ago is there, although its program is the same file as before."""
    loaded = world.home / "loaded.txt"
    loaded.write_text("harbour\n")
    own = world.home / ".config/dokimon/catalogue"
    own.mkdir(parents=True)
    (own / "bash.toml").write_text(
        'name = "bash"\ntitle = "Bash"\nkind = "command"\ncommands = ["bash"]\n'
        f'[[part]]\ncalled = "{{name}}"\nwhat = "chart"\nask = ["-c", "cat {loaded}"]\ntext = \'^(?P<name>\\w+)$\'\n'
        '[[remedy]]\nsay = "install it"\n'
    )
    world.write({"dokimon.toml": 'format = 1\n[[need]]\ntool = "bash"\nwith = ["channel"]\n'})
    assert world.dokimon("verify").status == 1
    loaded.write_text("harbour\nchannel\n")
    report = world.dokimon("verify", "--format", "json").report
    assert [(each["verdict"], each["found"]["known_by"]) for each in report["requirements"]] == [
        ("met", "cache"),
        ("met", "asked"),
    ]


def test_the_program_keeps_answers_unless_told_otherwise(world: World, program: Path) -> None:
    world.write({"dokimon.toml": 'format = 1\n[[need]]\ntool = "bash"\n'})

    def known_by(*arguments: str) -> str:
        found = world.dokimon("verify", "--format", "json", *arguments).report["requirements"]
        return str(found[0]["found"]["known_by"])

    assert [known_by(), known_by(), known_by("--fresh")] == ["asked", "cache", "asked"]
    assert (world.home / ".cache/dokimon/answers.json").exists()
    # Where nothing can be written, nothing is kept and nothing is lost.
    (world.home / ".cache/dokimon/answers.json").unlink()
    (world.home / ".cache/dokimon").rmdir()
    (world.home / ".cache/dokimon").write_text("a file in its place")
    assert [known_by(), known_by()] == ["asked", "asked"]
    del world.environment["XDG_CACHE_HOME"], world.environment["HOME"]
    world.environment["HOME"] = ""
    assert known_by() == "asked"
