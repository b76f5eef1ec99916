"""What the tests share: checkouts written from a table, tools that answer as told, and the installed program."""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import socket
import subprocess
import sys
import time
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any, NamedTuple

import jsonschema
import psutil
import pytest
from hypothesis import settings

from dokimon.core.machine.cache import Cache
from dokimon.core.machine.catalogue import Catalogue
from dokimon.core.machine.survey import Installation, Surveyor
from dokimon.core.processes.systems.face import hold, let_go
from dokimon.core.report.outcome import exit_status
from dokimon.core.report.reading import decode
from program import Program

settings.register_profile("steady", deadline=None, max_examples=40)  # a busy machine is no failure
settings.register_profile("thorough", deadline=None, max_examples=400)
settings.load_profile("thorough" if "DOKIMON_THOROUGH" in os.environ else "steady")

# Rewritten assertions and compiled modules are kept, whatever the machine says: each worker would make them anew each time.
sys.dont_write_bytecode = False
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)

# What the system's git is set to do (filters of git-lfs, signing) reaches no repository of a test.
os.environ |= {"GIT_CONFIG_GLOBAL": os.devnull, "GIT_CONFIG_SYSTEM": os.devnull}

DOKIMON = Path(sys.executable).with_name("dokimon")

STANDINS = Path(__file__).with_name("standins")
SCHEMA = json.loads(
    (Path(__file__).parents[1] / "src/dokimon/core/report/dokimon-report-1.schema.json").read_text("utf-8")
)


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """Mark what starts the program and what is a property; leave what goes beyond the ordinary run to who asks for it."""
    for item in items:
        if {"world", "hostile", "loaded_program"} & {*getattr(item, "fixturenames", ())}:
            item.add_marker("program")
        if hasattr(getattr(item, "obj", None), "hypothesis"):
            item.add_marker("property")
    asked = config.option.markexpr or ""
    beyond = [
        each
        for each in items
        for mark in ("real", "fuzz", "field", "other_system")
        if each.get_closest_marker(mark) and mark not in asked
    ]
    if beyond and not any("::" in each for each in config.args):
        config.hook.pytest_deselected(items=beyond)
        items[:] = [each for each in items if each not in beyond]
    items.sort(key=lambda item: item.path.stem not in _WAIT)  # what waits goes on while the rest works


_WAIT = (
    "test_engine",
    "test_smoke",
    "test_settling",
    "test_lying_servers",
    "test_checks",
    "test_kinds",
    "test_proving",
)


class Ended(NamedTuple):
    """A call of the program that has ended."""

    status: int
    out: str
    err: str

    @property
    def report(self) -> dict[str, Any]:
        """The report that it printed; the call ended with the status that the report comes to."""
        assert "Traceback" not in self.err
        read = report_in(self.out)
        assert exit_status(decode(self.out.encode())) == self.status
        return read


_VALID = jsonschema.Draft202012Validator(SCHEMA)
"""Made once: preparing a validator takes longer than all that a report has to be compared with it."""


def report_in(text: str) -> dict[str, Any]:
    """Return the report in a JSON text; every one is valid against the schema that the package ships."""
    read = json.loads(text)
    _VALID.validate(read)
    return read


BASICS = (
    "awk", "basename", "bash", "cat", "chmod", "cp", "cut", "date", "dirname", "env", "false", "find", "git", "grep",
    "head", "id", "kill", "ln", "ls", "mkdir", "mv", "nohup", "printf", "ps", "pwd", "readlink", "rm", "rmdir", "sed",
    "seq", "setsid", "sh", "sleep", "sort", "stat", "strace", "stty", "tail", "tee", "touch", "tr", "true", "tty",
        "uname",
    "wc", "xargs", "yes",
)  # fmt: skip
"""What stand-ins and shells need of the system: nothing that a catalogue of tools knows, but for git and bash."""


@pytest.fixture(scope="session")
def basics(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder for PATH that is the same on machines that have every tool and on those that have none."""
    folder = tmp_path_factory.mktemp("basics")
    for name in BASICS:
        if found := shutil.which(name, path="/usr/bin:/bin:/usr/local/bin"):
            (folder / name).symlink_to(found)
    (folder / "python3").symlink_to(Path(sys.executable).resolve())
    return folder


class World:
    """A small world for one test: a folder of tools, a home, a checkout, and the program in it.

    The system's own places lie below an empty `root`, so that what this machine has plays no part.
    """

    def __init__(self, folder: Path, basics: Path, program: Program) -> None:
        self.program = program
        self.basics, self.root = basics, folder / "root"
        self.root.mkdir()
        self.tools, self.home, self.checkout = folder / "tools", folder / "home", folder / "checkout"
        for each in (self.tools, self.home, self.checkout):
            each.mkdir()
        (self.checkout / ".git").mkdir()  # it ends the search for the root
        (self.tools / "python").symlink_to(Path(sys.executable).resolve())
        self.environment = {
            "PATH": f"{self.tools}:{basics}",
            "DOKIMON_ROOT": str(self.root),
            "HOME": str(self.home),
            "XDG_CACHE_HOME": str(self.home / ".cache"),
            "LANG": "C.UTF-8",
            "GIT_CONFIG_SYSTEM": os.devnull,
            "DOKIMON_WATCHED_SECONDS": "0.1",  # what dies soon after it was up is a case of its own
        }

    def tool(self, name: str, script: str, folder: Path | None = None) -> Path:
        """Put a stand-in on PATH: a shell script."""
        path = (folder or self.tools) / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(f"#!/bin/sh\n# A stand-in for {name}, made by a test.\n{script}\n")
        path.chmod(0o755)
        return path

    def put_first(self, folder: Path) -> str:
        """Return the line that a remedy shows to put a folder first on PATH: this world's home is not spelt out."""
        below_home = folder.is_relative_to(self.home)
        shown = f'"$HOME"/{folder.relative_to(self.home)}' if below_home else str(folder)
        return f'export PATH={shown}:"$PATH"'

    def write(self, files: dict[str, str | bytes]) -> Path:
        """Write the files of the checkout and return its folder."""
        for name, content in files.items():
            path = self.checkout / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(content if isinstance(content, bytes) else content.encode())
        return self.checkout

    def start(self, *arguments: str | Path, cwd: Path | None = None, **more: Any) -> subprocess.Popen[str]:
        """Start the program and return it running."""
        return subprocess.Popen(
            [str(DOKIMON), *map(str, arguments)],
            cwd=cwd or self.checkout,
            env=self.environment,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
            **more,
        )

    def dokimon(self, *arguments: str | Path, cwd: Path | None = None, seconds: float = 60) -> Ended:
        """Run the program to its end (without its start-up: see program.py)."""
        return Ended(*self.program.call([*map(str, arguments)], cwd or self.checkout, self.environment, seconds))

    def installed(self, *arguments: str | Path, cwd: Path | None = None, seconds: float = 60) -> Ended:
        """Run the program to its end, as it is installed."""
        process = self.start(*arguments, cwd=cwd)
        try:
            out, err = process.communicate(timeout=seconds)
        finally:
            process.kill()
        return Ended(process.returncode, out, err)

    def run_of(self, *arguments: str) -> tuple[int, dict[str, Any]]:
        """Smoke-check the checkout; return the exit status and the one run in the report."""
        ended = self.dokimon("smoke", "--format", "json", *arguments)
        (run,) = ended.report["runs"]
        return ended.status, run

    def server(self, *behaviours: str, port: int | str = "any", more: str = "") -> None:
        """Make the checkout one that runs the stand-in server."""
        shown = f'"{port}"' if isinstance(port, str) else port
        command = f"{sys.executable} -S {STANDINS / 'server.py'} {{port}} {' '.join(behaviours)}"
        self.write(
            {"dokimon.toml": f'format = 1\n[[run]]\nname = "harbour"\ncommand = "{command}"\nport = {shown}\n{more}'}
        )


@pytest.fixture(scope="session")
def loaded_program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Program]:
    """The program, loaded once for all calls of this process of tests."""
    loaded = Program(tmp_path_factory.mktemp("program"))
    yield loaded
    loaded.close()


@pytest.fixture
def world(tmp_path: Path, basics: Path, loaded_program: Program) -> Iterator[World]:
    """A world of the test's own, in which no process is left when the test is over."""
    made = World(tmp_path, basics, loaded_program)
    yield made
    deadline = time.monotonic() + 2  # a process that was killed a moment ago may still be there
    while (left := processes_of(made)) and time.monotonic() < deadline:
        time.sleep(0.05)
    left = processes_of(made) if left else []
    for process in left:
        with contextlib.suppress(psutil.NoSuchProcess):
            process.kill()
    assert not left, f"processes are left: {left}"


def processes_of(world: World) -> list[psutil.Process]:
    """Return the living processes whose home is this world's: all that was started in it, whoever is their parent."""
    mark = f"HOME={world.home}".encode()
    found = []
    for folder in Path("/proc").glob("[0-9]*"):
        try:
            if mark in (folder / "environ").read_bytes().split(b"\0"):
                process = psutil.Process(int(folder.name))
                if process.status() != psutil.STATUS_ZOMBIE:
                    found.append(process)
        except (OSError, psutil.Error):
            continue
    return found


def wait_for(mark: Path, seconds: float = 60) -> None:
    """Wait until a file is there: the sign of whoever makes it."""
    deadline = time.monotonic() + seconds
    while not mark.exists():
        assert time.monotonic() < deadline, f"there was no {mark.name} within {seconds:g} s"
        time.sleep(0.02)


@pytest.fixture
def usual_port(tmp_path_factory: pytest.TempPathFactory) -> Iterator[None]:
    """Tests that start what takes a port by custom take turns, in whatever process they are."""
    while (handle := hold(tmp_path_factory.getbasetemp().parent / "usual-port")) is None:
        time.sleep(0.02)
    yield
    let_go(handle)


_BACK_ENDS = (
    ["linux", pytest.param("portable", marks=pytest.mark.other_system)] if sys.platform == "linux" else ["portable"]
)


@pytest.fixture(params=_BACK_ENDS)
def back_end(request: pytest.FixtureRequest, world: World, monkeypatch: pytest.MonkeyPatch) -> str:
    """Each back end for processes in turn; another system's one only where it is asked for, as CI does."""
    monkeypatch.setenv("DOKIMON_PROCESSES", request.param)  # for what is called without the program
    world.environment["DOKIMON_PROCESSES"] = request.param
    return str(request.param)


@pytest.fixture
def free_port() -> int:
    """A port that is free at this moment."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def surveyed(
    tools: Iterable[str], folder: Path, checkout: Path, environment: dict[str, str], **more: Any
) -> dict[str, list[Installation]]:
    """Survey this machine as a call with these variables would, without a cache; return the copies of each tool.

    What is looked for alone, the copy that a command reaches, is the one that the survey finds.
    """
    tools = list(tools)
    found = surveyor(folder, checkout, environment, **more).survey(tools).installations
    reached = surveyor(folder, checkout, environment, **more).reached(tools)
    for tool, copies in found.items():
        seen, alone = (
            [(c.path, c.version, c.via, c.shim) for c in each if c.reached] for each in (copies, reached[tool])
        )
        assert alone == seen
    return found


def surveyor(
    folder: Path,
    checkout: Path,
    environment: dict[str, str],
    catalogue: Catalogue | None = None,
    cache: Path | None = None,
) -> Surveyor:
    """What surveys this machine for a test."""
    return Surveyor(catalogue or Catalogue(), folder, checkout, environment, Cache(cache))
