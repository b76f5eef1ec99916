"""How a service is started here: by what is installed, by the project's compose file, or where it listens already."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import World
from dokimon.core.judging import starting
from dokimon.core.judging.starting import Starting, known_services, name_at, ways_to_start
from dokimon.core.processes.sockets import free_port

QUAY = Starting(
    port=6007, processes=("quay-apart",), units=("quay",), command="quayd --port {port}", image="saltmarsh/quay"
)


@pytest.fixture
def bare(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> Path:
    """A machine without any service of its own, which knows one called quay."""
    monkeypatch.setattr(starting, "known_services", lambda: {"quay": QUAY})
    return tmp_path


def _program(path: Path) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text("#!/bin/sh\n")
    path.chmod(0o755)


def _system_unit(at: Path) -> None:
    (at / "run/systemd/system").mkdir(parents=True)
    (at / "lib/systemd/system").mkdir(parents=True)
    (at / "lib/systemd/system/quay.service").touch()


HERE: list[tuple[str, Callable[[Path], object], list[str | None]]] = [
    ("nothing", lambda at: None, [None]),
    ("program", lambda at: _program(at / "usr/sbin/quayd"), ["quayd --port 6007"]),
    ("script", lambda at: _program(at / "etc/init.d/quay"), ["sudo service quay start"]),
    ("unit", _system_unit, ["sudo systemctl start quay"]),
    ("formula", lambda at: (at / "usr/local/opt/quay").mkdir(parents=True), ["brew services start quay"]),
    ("engine", lambda at: _program(at / "bin/podman"), ["podman run --rm -p 6007:6007 saltmarsh/quay"]),
    ("a program of the checkout", lambda at: _program(at / "checkout/bin/quayd"), [None]),
]


@pytest.mark.parametrize("lay, commands", [case[1:] for case in HERE], ids=[case[0] for case in HERE])
def test_what_is_here_starts_it(bare: Path, lay: Callable[[Path], object], commands: list[str | None]) -> None:
    lay(bare)
    environment = {"PATH": f"{bare}/checkout/bin:{bare}/bin", "DOKIMON_ROOT": str(bare)}
    assert [each.command for each in ways_to_start("quay", 6007, environment, bare / "checkout")] == commands


def test_a_compose_file_comes_after_what_is_here(bare: Path) -> None:
    _program(bare / "bin/quayd")
    ways = ways_to_start(
        "quay",
        6007,
        {"PATH": f"{bare}/bin", "DOKIMON_ROOT": str(bare)},
        bare / "checkout",
        ("dev/compose.yaml", "pier; rm"),
    )
    assert [each.command for each in ways] == [
        "quayd --port 6007",
        "docker compose -f dev/compose.yaml up -d 'pier; rm'",
    ]
    assert "not installed here" in ways[1].say


@pytest.mark.skipif(not Path("/proc").is_dir(), reason="the name of a script's process is known on Linux alone")
def test_one_that_listens_elsewhere_is_said_first(bare: Path) -> None:
    at, port = bare / "quay-apart", free_port()
    at.write_text(
        f"#!{sys.executable}\nimport socket\ns = socket.create_server(('127.0.0.1', {port}))\nprint(flush=True)\ninput()\n"
    )
    at.chmod(0o755)
    with subprocess.Popen([at], stdin=subprocess.PIPE, stdout=subprocess.PIPE) as process:
        assert process.stdout and process.stdout.readline()
        said = ways_to_start("quay", 6007, {"DOKIMON_ROOT": str(bare)}, bare / "checkout")[0].say
        process.kill()
    assert said == f"quay-apart listens on port {port} (process {process.pid}): point the settings of quay there"


def test_services_are_known_by_port_and_by_other_names() -> None:
    assert name_at(5432) == "postgres" and name_at(1) is None
    assert known_services()["postgresql"] is known_services()["postgres"]


def test_verify_names_the_entry_of_the_compose_file(world: World) -> None:
    world.write({"compose.yaml": "services:\n  store:\n    image: redis:7\n    ports: ['6399:6379']\n"})
    said = world.dokimon("verify").out
    assert "docker compose up -d store" in said and "sudo" not in said
