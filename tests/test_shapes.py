"""How projects of many shapes are started (shapes.toml), and those that no command line starts."""

from __future__ import annotations

import http.server
import os
import subprocess
import sys
import threading
import tomllib
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import pytest

from conftest import World
from dokimon.core.jobs.several import reports_of
from dokimon.core.machine import own_environment
from dokimon.core.planning.by_hand import by_hand, kinds
from dokimon.core.planning.making import make_plan
from dokimon.core.planning.plan import Plan, PlanContext, PlanFault, shown
from dokimon.core.planning.planners import python_environment, run_notebooks
from dokimon.core.planning.planners.containers import plan as plan_of_containers
from dokimon.core.processes.sockets import free_port
from dokimon.core.proving.lacking import declaring
from dokimon.core.report.model import Report
from dokimon.core.settings.model import Settings
from dokimon.core.smoking.built import built_elsewhere

SHAPES: list[dict[str, Any]] = tomllib.loads(Path(__file__).with_name("shapes.toml").read_text("utf-8"))["shape"]


def written(folder: Path, files: Mapping[str, str]) -> Path:
    for name, content in files.items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(content)
    return folder


def context_of(folder: Path, **environment: str) -> PlanContext:
    variables = {"PATH": "/usr/bin", **environment}
    return PlanContext(root=folder, folder=folder, environment=variables, tools={"python": "/usr/bin/python3"})


def planned(folder: Path, **environment: str) -> Plan:
    return make_plan(context_of(folder, **environment), Settings())


@pytest.mark.parametrize("shape", SHAPES, ids=[each["name"] for each in SHAPES])
def test_how_a_shape_is_started(tmp_path: Path, shape: dict[str, Any], monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(os, "geteuid", lambda: 1000, raising=False)
    monkeypatch.setattr(python_environment, "_SYSTEM_PYTHON", "/nowhere/python3")
    folder = written(tmp_path / "tides", shape["files"])
    if "says" in shape:
        with pytest.raises(PlanFault) as fault:
            planned(folder)
        assert shape["says"].replace("{folder}", str(folder)) in str(fault.value)
        return
    run = planned(folder).runs[0]
    assert (run.in_words.replace(f"{folder}/", ""), run.kind, run.port) == (
        shape["starts"], shape.get("kind"), shape.get("port"),
    )  # fmt: skip


def test_what_a_manifest_of_an_extension_names_must_be_there(tmp_path: Path) -> None:
    files = {"manifest.json": '{"manifest_version": 3, "action": {"default_popup": "popup.html"}}'}
    assert "names what is not there: popup.html" in (by_hand(written(tmp_path, files)) or "")
    assert "not there" not in (by_hand(written(tmp_path, {"popup.html": ""})) or "not there")
    deep = '{"manifest_version": 3, "x": ' + "[" * 900 + '"gone.js"' + "]" * 900 + "}"
    assert "names what is not there: gone.js" in (by_hand(written(tmp_path, {"manifest.json": deep})) or "")
    assert len({each.is_ for each in kinds()}) > 15


def test_what_a_build_puts_elsewhere_is_found_and_started(world: World) -> None:
    world.write({"Makefile": "TARGET = tides\nall:\n\tcc -o src/tides tides.c\n"})
    world.tool("make", "mkdir -p src; printf '#!/bin/sh\\necho high\\n' > src/tides; chmod +x src/tides")
    _, run = world.run_of("--anyway")
    assert (run["command"], run["verdict"]) == ("src/tides", "passed"), run


def test_of_several_programs_none_is_taken_for_the_one_that_was_to_be_built(tmp_path: Path) -> None:
    for name in ("one", "two"):
        (tmp_path / name).write_bytes(b"\x7fELF")
        (tmp_path / name).chmod(0o755)
    assert built_elsewhere(tmp_path / "tides", tmp_path) is None
    (tmp_path / "two").unlink()
    assert built_elsewhere(tmp_path / "tides", tmp_path) == tmp_path / "one"


# ── Containers ──

COMPOSE = "services:\n  board:\n    build: .\n    ports: ['{}:8080']\n"


@pytest.mark.parametrize(
    "here, command",
    [
        ((), None),
        (("podman",), None),
        (("podman", "podman-compose"), "podman-compose up"),
        (("docker-compose",), "docker-compose up"),
        (("docker", "home/.docker/cli-plugins/docker-compose"), "docker compose up"),
        (("docker", "home/.docker/cli-plugins/docker-compose", "podman", "podman-compose"), "podman-compose up"),
    ],
)
def test_services_are_brought_up_by_the_engine_that_is_here(
    tmp_path: Path, here: tuple[str, ...], command: str | None
) -> None:
    for name in here:
        path = tmp_path / (name if "/" in name else f"bin/{name}")
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text("#!/bin/sh\n")
        path.chmod(0o755)
    folder = written(tmp_path / "tides", {"compose.yaml": COMPOSE.format("${QUAY:-8123}")})
    plan = plan_of_containers(context_of(folder, PATH=str(tmp_path / "bin"), HOME=str(tmp_path / "home")))
    assert plan is not None
    (run,) = plan.runs
    assert run.published == (8123,) and (run.lacks is None) == (command is not None)
    assert command is None or run.in_words == command


def test_a_port_that_an_engine_opens_is_the_runs_own_and_all_is_brought_down(world: World) -> None:
    """The engine is a stand-in: its port is opened by a process that is none of the run's, as that of Docker is."""
    port = free_port()
    (world.home / ".docker/cli-plugins").mkdir(parents=True)
    (world.home / ".docker/cli-plugins/docker-compose").touch()
    world.tool("docker", 'echo "$*" >> engine.log; [ "$2" != up ] || exec sleep 60; [ "$2" != down ] || sleep 0.5')
    world.write({"compose.yaml": COMPOSE.format(port), "engine.log": ""})
    log = world.checkout / "engine.log"
    served = http.server.ThreadingHTTPServer(("127.0.0.1", port), _Page, bind_and_activate=False)

    ended = threading.Event()

    def engine() -> None:
        while "compose up" not in log.read_text() and not ended.wait(0.02):
            pass
        served.server_bind()
        served.server_activate()
        served.timeout = 0.05
        while not ended.is_set() and "compose down" not in log.read_text():
            served.handle_request()
        served.server_close()

    thread = threading.Thread(target=engine)
    thread.start()
    try:
        status, run = world.run_of()
    finally:
        ended.set()
        thread.join()
    assert (run["verdict"], status) == ("passed", 0), (run["reason"], run["strangers"], run["signs"], run["checks"])
    assert log.read_text().splitlines() == ["compose build", "compose up", "compose down -t 5"]


class _Page(http.server.BaseHTTPRequestHandler):
    def do_GET(self) -> None:
        self.send_response(200)
        self.send_header("Content-Type", "text/plain")
        self.end_headers()
        self.wfile.write(b"high water at nine")

    def log_message(self, *arguments: object) -> None:
        pass


# ── Notebooks ──

NBFORMAT = """
import json
class Cell:
    def __init__(self, made): self.cell_type, self.source, self.outputs = made["cell_type"], made["source"], []
class Notebook:
    def __init__(self, made): self.cells = [Cell(each) for each in made["cells"]]
def read(file, as_version): return Notebook(json.load(open(file)))
"""
NBCLIENT = """
import os
from nbclient.exceptions import CellExecutionError
class NotebookClient:
    def __init__(self, notebook, timeout, resources): self.notebook, self.at = notebook, resources["metadata"]["path"]
    def execute(self):
        os.chdir(self.at)
        for cell in self.notebook.cells:
            try: exec(cell.source, {})
            except Exception as wrong:
                cell.outputs.append({"output_type": "error"})
                raise CellExecutionError(f"{type(wrong).__name__}: {wrong}")
"""
_KINDS = ("CellExecutionError", "CellTimeoutError", "DeadKernelError")
ERRORS = "".join(f"class {name}(Exception): pass\n" for name in _KINDS)


@pytest.mark.parametrize(
    "cells, status, says",
    [
        (["open('made.txt', 'w').write('high')"], 0, "tides.ipynb: 1 cells carried out"),
        (["x = 1", "import ternlib"], 1, "tides.ipynb: cell 2 fails\nModuleNotFoundError: No module named 'ternlib'"),
    ],
)
def test_notebooks_are_carried_out_in_a_copy(tmp_path: Path, cells: list[str], status: int, says: str) -> None:
    """nbclient and nbformat are stand-ins, which carry out the cells in the same process."""
    packages = {"nbformat.py": NBFORMAT, "nbclient/__init__.py": NBCLIENT, "nbclient/exceptions.py": ERRORS}
    written(tmp_path / "packages", packages)
    made = ", ".join(f'{{"cell_type": "code", "source": "{each}"}}' for each in cells)
    folder = written(tmp_path / "tides", {"tides.ipynb": f'{{"cells": [{made}]}}'})
    ended = subprocess.run(
        [sys.executable, run_notebooks.__file__, "tides.ipynb"], cwd=folder, capture_output=True, text=True,
        env={**os.environ, "PYTHONPATH": str(tmp_path / "packages")}, check=False,
    )  # fmt: skip
    assert (ended.returncode, says in ended.stdout + ended.stderr) == (status, True), ended
    assert [path.name for path in folder.iterdir()] == ["tides.ipynb"]


# ── Which Python ──


@pytest.fixture
def own(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """Dokimon as it is installed in an environment of its own, which is the active one."""
    folder = written(tmp_path / "own", {"pyvenv.cfg": "version = 3.11.4\n", "bin/python": ""})
    monkeypatch.setattr(sys, "prefix", str(folder))
    return folder


def test_dokimons_own_environment_is_nobodys(own: Path, tmp_path: Path) -> None:
    project = written(tmp_path / "tides", {"requirements.txt": "tern\n"})
    linked = tmp_path / "linked"
    linked.symlink_to(own)
    for active in (own, linked):
        variables = {"VIRTUAL_ENV": str(active), "PATH": f"{active}/bin:/usr/bin:{active}/bin"}
        assert own_environment.without_own(variables, project) == {"PATH": "/usr/bin"}
        assert own_environment.without_own(variables, own.parent) == variables  # its own checkout's
    others = {"VIRTUAL_ENV": str(tmp_path / "other"), "PATH": f"{tmp_path}/other/bin"}
    assert own_environment.without_own(others, project) == others


def test_nothing_is_installed_into_dokimons_own_environment(own: Path, tmp_path: Path) -> None:
    project = written(tmp_path / "tides", {"requirements.txt": "tern\n", "app.py": "print()\n"})
    (project / ".venv").symlink_to(own)
    with pytest.raises(PlanFault, match="where Dokimon itself is installed"):
        planned(project)


def test_what_is_active_is_not_dokimons_own_in_a_smoke_check(world: World, tmp_path: Path) -> None:
    world.environment |= {"VIRTUAL_ENV": sys.prefix, "PATH": f"{sys.prefix}/bin:{world.environment['PATH']}"}
    world.write({"requirements.txt": "tern\n", "app.py": "print('high')\n"})
    said = world.dokimon("smoke", "--show-plan", "--format", "json").report
    commands = [each["command"] for each in said["plan"]["prepare"]]
    assert any("-m venv .venv" in each for each in commands) and not any(sys.prefix in each for each in commands)


@pytest.mark.parametrize(
    "files, venv",
    [
        ({"requirements.txt": "tern>=1\n"}, False),
        ({"requirements.txt": "tern>=2\n"}, True),
        ({"requirements.txt": "heron\n"}, True),
        ({"requirements.txt": "heron\n", "Makefile": "run:\n\tSYSTEM app.py\n"}, False),
    ],
)
def test_a_system_python_that_will_do_is_used_as_it_is(
    tmp_path: Path, files: dict[str, str], venv: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    system = written(
        tmp_path / "usr", {"bin/python3": "", "lib/python3/dist-packages/tern-1.4.0.dist-info/METADATA": ""}
    )
    monkeypatch.setattr(python_environment, "_SYSTEM_PYTHON", str(system / "bin/python3"))
    files = {name: text.replace("SYSTEM", str(system / "bin/python3")) for name, text in files.items()}
    folder = written(tmp_path / "tides", {**files, "app.py": "print()\n"})
    context = PlanContext(root=folder, folder=folder, environment={}, tools={"python": str(system / "bin/python3")})
    plan = make_plan(context, Settings())
    assert (plan.prepare != ()) == venv
    if not venv:
        assert ".venv" not in " ".join(run.in_words for run in plan.runs)


def test_packages_of_the_system_are_seen_where_an_environment_lets_them_in(tmp_path: Path) -> None:
    system = written(tmp_path / "usr", {"lib/python3/dist-packages/tern-1.4.0.dist-info/METADATA": ""})
    config = f"home = {system}/bin\ninclude-system-site-packages = true\nversion = 3.11.2\n"
    folder = written(
        tmp_path / "tides",
        {".venv/pyvenv.cfg": config, ".venv/bin/python": "", "requirements.txt": "tern\n", "app.py": "print()\n",
         ".venv/lib/python3.11/site-packages/pip/__init__.py": ""},
    )  # fmt: skip
    assert [step.needed for step in planned(folder).prepare] == [None]
    config = config.replace("true", "false")
    written(folder, {".venv/pyvenv.cfg": config})
    assert [step.needed for step in planned(folder).prepare] == ["tern is not installed in it"]


# ── Workspaces ──

MEMBER = '{"name": "web", "scripts": {"start": "node s.js"}, "dependencies": {"tern": "^1.0.0", "tide": "workspace:*"}}'
TERN = '{"name": "tern", "version": "1.2.0"}'


@pytest.mark.parametrize(
    "root, command",
    [
        ({"package.json": '{"workspaces": ["apps/*"]}'}, "npm install --no-audit --no-fund"),
        ({"package.json": '{"workspaces": ["apps/*"]}', "yarn.lock": ""}, "yarn install --frozen-lockfile"),
        (
            {"package.json": '{"packageManager": "pnpm@9.1.0"}', "pnpm-workspace.yaml": "packages: \n  - apps/*\n"},
            "pnpm install",
        ),
        ({"package.json": '{"workspaces": ["packages/*"]}'}, None),
    ],
)
def test_a_member_of_a_workspace_is_prepared_by_its_root(
    tmp_path: Path, root: dict[str, str], command: str | None
) -> None:
    folder = written(tmp_path / "tides", {**root, "apps/web/package.json": MEMBER, "apps/web/s.js": ""}) / "apps/web"
    context = PlanContext(root=tmp_path / "tides", folder=folder, environment={"PATH": ""}, tools={})
    plan = make_plan(context, Settings())
    (step,) = plan.prepare
    assert step.folder == (tmp_path / "tides" if command else folder)
    assert command is None or (shown(step.command, step.folder), step.needed) == (command, "there is no node_modules")
    assert plan.runs[0].folder == folder and plan.runs[0].command == (
        shown(step.command, folder).split()[0],
        "run",
        "start",
    )
    if command and "pnpm" in command:  # which links what a member needs into the member
        modules = {"node_modules/.pnpm/x": "", "apps/web/node_modules/tern/package.json": TERN}
        written(tmp_path / "tides", modules | {"apps/web/node_modules/tide/package.json": "{}"})
        assert make_plan(context, Settings()).prepare[0].needed is None


def test_uv_keeps_the_environment_of_a_workspace_at_its_root(tmp_path: Path) -> None:
    project = '[project]\nname = "web"\nversion = "1"\ndependencies = ["tern>=1"]\n'
    top = written(
        tmp_path / "tides", {"uv.lock": "", "apps/web/pyproject.toml": project, "apps/web/main.py": "print()\n"}
    )
    (tool,) = (written(tmp_path / "bin", {"uv": "#!/bin/sh\n"}) / "uv",)
    tool.chmod(0o755)
    context = PlanContext(root=top, folder=top / "apps/web", environment={"PATH": str(tmp_path / "bin")}, tools={})
    plan = make_plan(context, Settings())
    assert [(step.command, step.folder) for step in plan.prepare] == [(("uv", "sync"), top / "apps/web")]
    assert plan.runs[0].in_words.startswith(f"{top}/.venv/bin/python")
    written(top, {".venv/bin/python": "", ".venv/lib/python3.11/site-packages/tern-1.4.0.dist-info/METADATA": ""})
    assert make_plan(context, Settings()).prepare[0].needed is None


# ── What is said at the end ──


def test_the_last_line_and_the_exit_status_agree(world: World) -> None:
    world.write({".nvmrc": "99\n", "run.sh": "echo high\n"})
    ended = world.dokimon("smoke", "--anyway")
    assert ended.status == 1 and "passed, though a need is not met · node" in " ".join(ended.out.split())
    (world.checkout / ".nvmrc").unlink()
    nothing = world.dokimon("verify")
    assert nothing.status == 3 and "nothing was verified" in nothing.out.replace("\n", " ")
    assert world.dokimon("verify", "--allow-none").status == 0


def test_one_project_never_ends_the_others(tmp_path: Path) -> None:
    def fails(folder: Path) -> Report:
        raise PlanFault("no way") if folder.name == "quay" else KeyError("tides")

    first, second = reports_of([tmp_path / "quay", tmp_path / "board"], fails, "smoke")
    assert first.notes == ("no way",) and first.verdict == second.verdict == "unsure"
    assert second.notes == ("a bug in Dokimon, please report it: KeyError: 'tides'",)


def test_what_a_clone_lacks_looks_at_what_is_declared(world: World) -> None:
    world.write({
        "pyproject.toml": '[project]\nname = "tides"\ndependencies = [\n  "tern-charts>=2",\n]\n',
        "requirements.txt": "# nothing\n",
    })  # fmt: skip
    assert declaring(world.checkout, "tern_charts") == "pyproject.toml:4"
    assert declaring(world.checkout, "tern") is None is declaring(world.checkout, "charts")
