"""What would be prepared and run: inferred from files alone, nothing of the checkout is run or imported."""

from __future__ import annotations

import json
import os
from pathlib import Path

import pytest

from dokimon.core.declarations.manifest import Manifest
from dokimon.core.planning import make_plan
from dokimon.core.planning.plan import PREPARE_SECONDS, UP_SECONDS, Plan, PlanFault, Setting, shown
from dokimon.core.settings import Settings, read_settings

BUILD = '[build-system]\nrequires = ["hatchling"]\n'


def plan_of(folder: Path, files: dict[str, str], chosen: list[str] | None = None, **environment: str) -> Plan:
    for name, content in files.items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(content)
    setting = Setting(folder, folder, {"PATH": "/usr/bin", **environment}, {"python": "/usr/bin/python3"})
    written = folder / "dokimon.toml"
    settings = (
        read_settings(Manifest(str(written), "dokimon.toml", written.read_text(), folder))
        if written.exists()
        else Settings()
    )
    return make_plan(setting, settings, chosen or [])


def script(text: str, name: str = "dev", **more: object) -> str:
    return json.dumps({"scripts": {name: text}, **more})


@pytest.mark.parametrize(
    "files, command, kind, port, source",
    [
        ({"package.json": script("vite")}, "npm run dev", "server", 5173, "package.json:1"),
        ({"package.json": script("vite --port 4000 --host")}, "npm run dev", "server", 4000, "package.json:1"),
        ({"package.json": script("PORT=4001 react-scripts start", "start")}, "npm run start", "server", 4001, "package.json:1"),
        ({"package.json": script("node tides.js", "start")}, "npm run start", None, None, "package.json:1"),
        ({"package.json": script("vite build", "start")}, "npm run start", None, None, "package.json:1"),
        ({"package.json": script("next dev", packageManager="pnpm@9.0.0")}, "pnpm run dev", "server", 3000, "package.json:1"),
        ({"package.json": script("astro dev"), "yarn.lock": ""}, "yarn run dev", "server", 4321, "package.json:1"),
        ({"package.json": "{}", "server.js": ""}, "node server.js", None, None, "server.js:1"),
        ({"manage.py": "import django"}, ".venv/bin/python manage.py runserver '127.0.0.1:{port}'", "server", 8000, "manage.py:1"),
        ({"app.py": "from flask import Flask\napp = Flask(__name__)\n"}, ".venv/bin/python -m flask --app app run --port '{port}'", "server", 5000, "app.py:2"),
        ({"harbour/__init__.py": "import flask\ndef create_app():\n    return flask.Flask('x')\n", "setup.cfg": ""}, ".venv/bin/python -m flask --app harbour run --port '{port}'", "server", 5000, "harbour/__init__.py:2"),
        ({"wsgi.py": "from flask import Flask\nboat: Flask = Flask('x')\n"}, ".venv/bin/python -m flask --app wsgi:boat run --port '{port}'", "server", 5000, "wsgi.py:2"),
        ({"src/tides/main.py": "import fastapi\napi = fastapi.FastAPI()\n", "src/tides/__init__.py": ""}, ".venv/bin/python -m uvicorn tides.main:api --port '{port}'", "server", 8000, "src/tides/main.py:2"),
        ({"pyproject.toml": '[project]\nname = "tide-table"\n', "tide_table/__main__.py": "", "other/__main__.py": ""}, "python3 -m tide_table", None, None, "tide_table/__main__.py:1"),
        ({"pyproject.toml": BUILD, "src/tides/__main__.py": ""}, ".venv/bin/python -m tides", None, None, "src/tides/__main__.py:1"),
        ({"pyproject.toml": "", "main.py": "print()\nif __name__ == '__main__':\n    print()\n"}, "python3 main.py", None, None, "main.py:2"),
    ],
)  # fmt: skip
def test_how_a_project_starts(
    tmp_path: Path, files: dict[str, str], command: str, kind: str | None, port: int | None, source: str
) -> None:
    (run,) = plan_of(tmp_path, files).runs
    assert (shown(run.command, run.folder), run.kind, run.port) == (command, kind, port)
    assert f"{run.source.file}:{run.source.line}" == source


LOCK = json.dumps(
    {"packages": {"": {}, "node_modules/tern": {"version": "1.2.0"}, "node_modules/odd": {"optional": True}}}
)
NEEDS_TERN = script("node x", dependencies={"tern": "^1.0.0"})


@pytest.mark.parametrize(
    "files, commands, needed",
    [
        ({"package.json": script("node x")}, [], []),
        ({"package.json": NEEDS_TERN}, ["npm install --no-audit --no-fund"], ["there is no node_modules"]),
        ({"package.json": NEEDS_TERN, "package-lock.json": LOCK}, ["npm ci --no-audit --no-fund"], ["there is no node_modules"]),
        ({"package.json": NEEDS_TERN, "package-lock.json": LOCK, "node_modules/.package-lock.json": LOCK}, ["npm install --no-audit --no-fund"], [None]),
        ({"package.json": NEEDS_TERN, "package-lock.json": LOCK, "node_modules/.package-lock.json": LOCK.replace("1.2", "1.1")}, ["npm install --no-audit --no-fund"], ["package-lock.json wants tern 1.2.0, node_modules has 1.1.0 of it"]),
        ({"package.json": NEEDS_TERN, "package-lock.json": LOCK, "node_modules/x": ""}, ["npm install --no-audit --no-fund"], ["node_modules was not made by npm, or not to its end"]),
        ({"package.json": NEEDS_TERN, "node_modules/tern/package.json": '{"version": "1.9.0"}'}, ["npm install --no-audit --no-fund"], [None]),
        ({"package.json": NEEDS_TERN, "node_modules/tern/package.json": '{"version": "2.0.0"}'}, ["npm install --no-audit --no-fund"], ["node_modules has tern 2.0.0, and ^1.0.0 is declared"]),
        ({"package.json": NEEDS_TERN, "node_modules/x": ""}, ["npm install --no-audit --no-fund"], ["node_modules has no tern"]),
        ({"package.json": NEEDS_TERN, "pnpm-lock.yaml": ""}, ["pnpm install --frozen-lockfile"], ["there is no node_modules"]),
        ({"package.json": NEEDS_TERN, "yarn.lock": "", ".yarnrc.yml": ""}, ["yarn install --immutable"], ["there is no node_modules"]),
        ({"manage.py": "django", "harbour/settings.py": "'''using Django 5.2.8.'''"}, ["python3 -m venv .venv", "install Django==5.2.*"], ["the project has none, and none is active", ".venv is new"]),
        ({"app.py": "import flask\napp = flask.Flask('x')", "requirements.txt": "flask\n"}, ["python3 -m venv .venv", "install -r requirements.txt"], ["the project has none, and none is active", ".venv is new"]),
        ({"pyproject.toml": f'[project]\nname = "t"\ndependencies = ["tern>=2"]\n{BUILD}', "t/__main__.py": ""}, ["python3 -m venv .venv", "install -e ."], ["the project has none, and none is active", ".venv is new"]),
        ({"pyproject.toml": '[project]\nname = "t"\ndependencies = ["tern>=2"]\n', "t/__main__.py": ""}, ["python3 -m venv .venv", "install 'tern>=2'"], ["the project has none, and none is active", ".venv is new"]),
        ({"pyproject.toml": '[project]\nname = "t"\n', "t/__main__.py": ""}, [], []),
    ],
)  # fmt: skip
def test_what_is_prepared_and_why(
    tmp_path: Path, files: dict[str, str], commands: list[str], needed: list[str | None]
) -> None:
    steps = plan_of(tmp_path, files).prepare
    texts = [shown(step.command, step.folder) for step in steps]
    assert [
        text.endswith(command.replace("*", "*'").replace("install Dj", "install 'Dj"))
        for text, command in zip(texts, commands, strict=True)
    ] == [True] * len(steps), texts
    assert [step.needed for step in steps] == needed


@pytest.mark.parametrize(
    "requirements, needed",
    [
        ("tern>=1\n# none\n-r more.txt\n", None),
        ("tern>=2\n", "it has tern 1.4.0, and >=2 is declared"),
        ("tern\nheron ; python_version < '3'\n", None),
        ("heron\n", "heron is not installed in it"),
        ("-r deeper.txt\n", "heron is not installed in it"),
    ],
)  # fmt: skip
def test_an_environment_of_the_projects_own_is_compared_with_what_is_declared(
    tmp_path: Path, requirements: str, needed: str | None
) -> None:
    packages = "ferry-env/lib/python3.11/site-packages"
    files = {
        "ferry-env/pyvenv.cfg": "home = /usr/bin",
        "ferry-env/bin/python": "",
        f"{packages}/pip/__init__.py": "",
        f"{packages}/tern-1.4.0.dist-info/METADATA": "Metadata-Version: 2.1\nName: tern\nVersion: 1.4.0\n",
        "requirements.txt": requirements,
        "more.txt": "tern --hash=sha256:00\n",
        "deeper.txt": "heron\n",
        "main.py": "if __name__ == '__main__':\n    print()\n",
    }
    plan = plan_of(tmp_path, files, VIRTUAL_ENV="/elsewhere")
    assert [step.needed for step in plan.prepare] == [needed]
    assert plan.runs[0].command[0] == str(tmp_path / "ferry-env/bin/python")
    assert plan.runs[0].environment["PATH"] == f"{tmp_path / 'ferry-env/bin'}:/usr/bin"


def test_the_active_environment_comes_before_a_new_one(tmp_path: Path) -> None:
    active = tmp_path / "active"
    (active / "bin").mkdir(parents=True)
    (active / "bin/python").touch()
    (tmp_path / "project").mkdir()
    guarded = {"requirements.txt": "tern", "main.py": "if __name__ == '__main__':\n    print()\n"}
    plan = plan_of(tmp_path / "project", guarded, VIRTUAL_ENV=str(active))
    assert [step.title for step in plan.prepare] == ["unpack pip", f"install packages into {active}"]


def test_a_broken_environment_is_told_with_its_remedy(tmp_path: Path) -> None:
    with pytest.raises(PlanFault, match=r"\.venv has no working interpreter"):
        plan_of(tmp_path, {".venv/pyvenv.cfg": "", "manage.py": "django"})


def test_more_than_one_way_to_start_asks_for_a_choice(tmp_path: Path) -> None:
    files = {"package.json": script("vite"), "manage.py": "django"}
    with pytest.raises(PlanFault, match=r"(?s)choose one:.*--run dev .*--run django "):
        plan_of(tmp_path, files)
    assert [run.name for run in plan_of(tmp_path, files, ["django"]).runs] == ["django"]
    with pytest.raises(PlanFault, match='no run is named "djnago"; did you mean "django"'):
        plan_of(tmp_path, files, ["djnago"])


def test_settings_take_the_place_of_what_is_inferred(tmp_path: Path) -> None:
    toml = """
format = 1
[[prepare]]
command = "./make-board"
from = ["board.src"]
makes = ["board.out"]
[[run]]
name = "board"
command = "{python} -m board --port {port}"
port = "any"
[[smoke]]
get = "/"
"""
    files = {"dokimon.toml": toml, "package.json": NEEDS_TERN, "board.src": "", "board.out": ""}
    os.utime(tmp_path, None)
    plan = plan_of(tmp_path, files)
    assert [run.command for run in plan.runs] == ["python3 -m board --port {port}"]
    os.utime(tmp_path / "board.out", (1, 1))
    assert [step.needed for step in plan_of(tmp_path, {}).prepare] == ["board.src has changed since"]
    os.utime(tmp_path / "board.src", (1, 1))
    assert [step.needed for step in plan_of(tmp_path, {}).prepare] == [None]
    (tmp_path / "board.out").unlink()
    assert [step.needed for step in plan_of(tmp_path, {}).prepare] == ["board.out is missing"]


def test_nothing_leads_out_of_the_checkout(tmp_path: Path) -> None:
    toml = 'format = 1\n[[run]]\nname = "a"\ncommand = "x"\nin = "../elsewhere"\n'
    with pytest.raises(PlanFault, match="leads out of the checkout"):
        plan_of(tmp_path, {"dokimon.toml": toml})


def test_a_first_run_has_minutes(tmp_path: Path) -> None:
    """Downloads and first compilations take minutes: the limits that nobody set must allow for them."""
    plan = plan_of(tmp_path, {"package.json": NEEDS_TERN})
    assert plan.prepare[0].within == PREPARE_SECONDS >= 15 * 60
    assert plan.runs[0].within == UP_SECONDS >= 2 * 60
