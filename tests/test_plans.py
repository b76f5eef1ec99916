"""What would be prepared and run: inferred from files alone, nothing of the checkout is run or imported."""

from __future__ import annotations

import json
import os
import re
import sys
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import World
from dokimon.core.planning.making import PLANNERS, asked_in, make_plan, planner_of
from dokimon.core.planning.plan import PREPARE_SECONDS, UP_SECONDS, Plan, PlanContext, PlanFault, shown
from dokimon.core.planning.planners import python_environment
from dokimon.core.processes.logs import Logs
from dokimon.core.reading.manifest import Manifest
from dokimon.core.report.model import Run
from dokimon.core.settings.model import Settings
from dokimon.core.settings.read import read_settings
from dokimon.core.smoking.seen import remember

MAKES = "tide: tide.c\n\tcc -o tide tide.c\n"
SPHINX = "extensions = ['sphinx.ext.autodoc']\nproject = 'Tides'\nhtml_theme = 'alabaster'\n"
LONE_MARKS = [
    ("deno", "deno.jsonc", "{}"),
    ("php", "web/index.php", ""),
    ("php", "htdocs/index.php", ""),
    ("php", "www/index.php", ""),
    ("php", "public_html/index.php", ""),
    ("java", "settings.gradle.kts", ""),
    ("golang", "main.go", "package main\nfunc main() {\n}\n"),
    ("ruby", "Gemfile", ""),
    ("ruby", "config.ru", ""),
    ("make", "configure", ""),
    ("make", "configure.in", ""),
    ("make", "GNUmakefile", MAKES),
    ("perl", "cpanfile", ""),
    ("perl", "Makefile.PL", ""),
    ("perl", "Build.PL", ""),
    ("haskell", "package.yaml", ""),
    ("documentation", "mkdocs.yaml", "site_name: Tides\n"),
    ("documentation", "conf.py", SPHINX),
    ("documentation", "source/conf.py", SPHINX),
    ("documentation", "docs/conf.py", SPHINX),
    ("documentation", "doc/conf.py", SPHINX),
]


@pytest.mark.parametrize("planner, name, text", LONE_MARKS)
def test_a_planner_is_asked_where_its_only_sign_is_this_one(tmp_path: Path, planner: str, name: str, text: str) -> None:
    (tmp_path / name).parent.mkdir(exist_ok=True)
    (tmp_path / name).write_text(text)
    context = PlanContext(root=tmp_path, folder=tmp_path, environment={"PATH": "/usr/bin"}, tools={})
    assert planner_of(planner)(context) is not None
    assert planner in asked_in(tmp_path)


BUILD = '[build-system]\nrequires = ["hatchling"]\n'


def plan_of(folder: Path, files: dict[str, str], chosen: list[str] | None = None, **environment: str) -> Plan:
    for name, content in files.items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(content)
    setting = PlanContext(
        root=folder,
        folder=folder,
        environment={"PATH": "/usr/bin", **environment},
        tools={"python": "/usr/bin/python3"},
    )
    written = folder / "dokimon.toml"
    settings = (
        read_settings(Manifest(location=str(written), name="dokimon.toml", text=written.read_text(), root=folder))
        if written.exists()
        else Settings()
    )
    passed_over = set(PLANNERS) - set(asked_in(folder))
    assert [each for each in passed_over if planner_of(each)(setting) is not None] == [], "each that can tell is asked"
    return make_plan(setting, settings, chosen or [])


def script(text: str, name: str = "dev", **more: object) -> str:
    return json.dumps({"scripts": {name: text}, **more})


@pytest.mark.parametrize(
    "files, command, kind, port, source",
    [
        ({"package.json": script("vite")}, "npm run dev", "server", 5173, "package.json:1"),
        ({"package.json": script("vite --port 4000 --host")}, "npm run dev", "server", 4000, "package.json:1"),
        ({"package.json": script("PORT=4001 react-scripts start", "start")}, "npm run start", "server", 4001,
            "package.json:1"),
        ({"package.json": script("node tides.js", "start")}, "npm run start", None, None, "package.json:1"),
        ({"package.json": script("vite build", "start")}, "npm run start", None, None, "package.json:1"),
        ({"package.json": script("next dev", packageManager="pnpm@9.0.0")}, "pnpm run dev", "server", 3000,
            "package.json:1"),
        ({"package.json": script("astro dev"), "yarn.lock": ""}, "yarn run dev", "server", 4321, "package.json:1"),
        ({"package.json": "{}", "server.js": ""}, "node server.js", None, None, "server.js:1"),
        ({"manage.py": "import django"}, ".venv/bin/python manage.py runserver '127.0.0.1:{port}'", "server", 8000,
            "manage.py:1"),
        ({"app.py": "from flask import Flask\napp = Flask(__name__)\n"},
            ".venv/bin/python -m flask --app app run --port '{port}'", "server", 5000, "app.py:2"),
        ({"harbour/__init__.py": "import flask\ndef create_app():\n    return flask.Flask('x')\n", "setup.cfg": ""},
            ".venv/bin/python -m flask --app harbour run --port '{port}'", "server", 5000, "harbour/__init__.py:2"),
        ({"wsgi.py": "from flask import Flask\nboat: Flask = Flask('x')\n"},
            ".venv/bin/python -m flask --app wsgi:boat run --port '{port}'", "server", 5000, "wsgi.py:2"),
        ({"src/tides/main.py": "import fastapi\napi = fastapi.FastAPI()\n", "src/tides/__init__.py": ""},
            ".venv/bin/python -m uvicorn tides.main:api --port '{port}'", "server", 8000, "src/tides/main.py:2"),
        ({"pyproject.toml": '[project]\nname = "tide-table"\n', "tide_table/__main__.py": "", "other/__main__.py": ""},
            "python3 -m tide_table", None, None, "tide_table/__main__.py:1"),
        ({"pyproject.toml": BUILD, "src/tides/__main__.py": ""}, ".venv/bin/python -m tides", None, None,
            "src/tides/__main__.py:1"),
        ({"app/main.py": "import fastapi\nboat = fastapi.FastAPI()\n", "requirements.txt": "fastapi\n"},
            ".venv/bin/python -m uvicorn app.main:boat --port '{port}'", "server", 8000, "app/main.py:2"),
        ({"src/main.py": "import fastapi\nboat = fastapi.FastAPI()\n", "requirements.txt": "fastapi\n"},
            ".venv/bin/python -m uvicorn main:boat --port '{port}'", "server", 8000, "src/main.py:2"),
        ({"app.py": "import x\nimport streamlit as st\nst.title('Tides')\n", "requirements.txt": "streamlit\n"},
            ".venv/bin/python -m streamlit run app.py --server.port '{port}' --server.headless true "
            "--browser.gatherUsageStats false", "server", 8501, "app.py:2"),
        ({"src/main.py": "if __name__ == '__main__':\n    print()\n", "requirements/dev.txt": "tern\n"},
            ".venv/bin/python src/main.py", None, None, "src/main.py:1"),
        ({"tides": "#!/usr/bin/env bash\necho 1\n", "README": ""}, "bash tides", None, None, "tides:1"),
        ({"bin/tides.sh": "#!/bin/sh -e\necho 1\n", "lib/x.sh": ""}, "sh bin/tides.sh", None, None, "bin/tides.sh:1"),
        ({"pyproject.toml": "[tool.pdm.scripts]\nstart = {cmd = 'python tides.py --port 1'}\nlint = 'x'\n"},
            "python tides.py --port 1", None, None, "pyproject.toml:2"),
        ({"pyproject.toml": "[tool.hatch.envs.default.scripts]\nlint = 'x'\nserve = ['echo 1', 'tides']\n"},
            "echo 1 && tides", None, None, "pyproject.toml:3"),
        ({"pyproject.toml": "", "main.py": "print()\nif __name__ == '__main__':\n    print()\n"}, "python3 main.py",
            None, None, "main.py:2"),
    ],
)  # fmt: skip
def test_how_a_project_starts(
    tmp_path: Path, files: dict[str, str], command: str, kind: str | None, port: int | None, source: str
) -> None:
    folder = tmp_path / "tides-1.4"
    folder.mkdir()
    (run,) = plan_of(folder, files).runs
    assert (run.in_words, run.kind, run.port) == (command, kind, port)
    assert f"{run.source.file}:{run.source.line}" == source


MAKEFILES: list[tuple[dict[str, str], list[str]]] = [
    ({"Makefile": "SUBDIRS=lib ip\nall:\n\tfor i in $(SUBDIRS); do $(MAKE) -C $$i; done\n",
        "ip/Makefile": "TARGETS=ip mon\nall: $(TARGETS)\nip: $(IPOBJ) a.a\nmon: mon.o\n", "lib/Makefile": "x.a: x.o\n"},
            ["ip/ip", "ip/mon"]),
    ({"Makefile": "default: it\nit: prog install\nprog: \\\nbuoy buoy-conf\nbuoy: load buoy.o\n\t./load buoy\n"
        "buoy-conf: load buoy-conf.o\n\t./load buoy-conf\ncompile: conf-cc\n\techo cc > compile\n",
        "buoy.c": "", "buoy-conf.c": ""}, ["buoy", "buoy-conf"]),
    ({"Makefile": "libkelp: libkelp.so\nlibkelp.so: a.o\n\tgcc -shared -o libkelp.so a.o\n"}, []),
    ({"configure.ac": "AC_INIT([kelpxml], [3.2])\nTEA_INIT([3.9])\n", "configure": "", "Makefile.in": "x: y\n"}, []),
    ({"configure.ac": "AC_INIT([mod_kelp], [3.2])\n", "Makefile.in": "shared: a.lo\n\t$(CC) -o m.la a.lo\n"}, []),
]  # fmt: skip


@pytest.mark.parametrize("files, programs", MAKEFILES)
def test_which_programs_make_builds(tmp_path: Path, files: dict[str, str], programs: list[str]) -> None:
    try:
        plan = plan_of(tmp_path, files)
    except PlanFault:
        assert not programs
        return
    assert [str(run.in_words).removeprefix("./") for run in (*plan.runs, *plan.others)] == programs


@pytest.mark.parametrize(
    "files, arguments",
    [
        ({"requirements/base.txt": "tern\n", "requirements/local.txt": "-r base.txt\nheron\n"},
            ["-r", "requirements/local.txt"]),
        ({"Pipfile": '[packages]\ntern = "*"\nheron = {version = ">=2", extras = ["fast"]}\nown = {path = "."}\n'},
            ["tern", "heron[fast]>=2"]),
        ({"requirements.txt": "tern\n", "Pipfile": "[packages]\nheron = '*'\n"}, ["-r", "requirements.txt"]),
    ],
)  # fmt: skip
def test_which_packages_a_python_project_is_given(tmp_path: Path, files: dict[str, str], arguments: list[str]) -> None:
    steps = plan_of(tmp_path, {"main.py": "if __name__ == '__main__':\n    print()\n", **files}).prepare
    assert list(steps[-1].command[-len(arguments) :]) == arguments


LOCK = json.dumps(
    {"packages": {"": {}, "node_modules/tern": {"version": "1.2.0"}, "node_modules/odd": {"optional": True}}}
)
NEEDS_TERN = script("node x", dependencies={"tern": "^1.0.0"})


@pytest.mark.parametrize(
    "files, commands, needed",
    [
        ({"package.json": script("node x")}, [], []),
        ({"package.json": NEEDS_TERN}, ["npm install --no-audit --no-fund"], ["there is no node_modules"]),
        ({"package.json": NEEDS_TERN, "package-lock.json": LOCK}, ["npm ci --no-audit --no-fund"],
            ["there is no node_modules"]),
        ({"package.json": NEEDS_TERN, "package-lock.json": LOCK, "node_modules/.package-lock.json": LOCK},
            ["npm install --no-audit --no-fund"], [None]),
        ({"package.json": NEEDS_TERN, "package-lock.json": LOCK,
            "node_modules/.package-lock.json": LOCK.replace("1.2", "1.1")}, ["npm install --no-audit --no-fund"],
                ["package-lock.json wants tern 1.2.0, node_modules has 1.1.0 of it"]),
        ({"package.json": NEEDS_TERN, "package-lock.json": LOCK, "node_modules/x": ""},
            ["npm install --no-audit --no-fund"], ["node_modules was not made by npm, or not to its end"]),
        ({"package.json": NEEDS_TERN, "node_modules/tern/package.json": '{"version": "1.9.0"}'},
            ["npm install --no-audit --no-fund"], [None]),
        ({"package.json": NEEDS_TERN, "node_modules/tern/package.json": '{"version": "2.0.0"}'},
            ["npm install --no-audit --no-fund"], ["node_modules has tern 2.0.0, and ^1.0.0 is declared"]),
        ({"package.json": NEEDS_TERN, "node_modules/x": ""}, ["npm install --no-audit --no-fund"],
            ["node_modules has no tern"]),
        ({"package.json": NEEDS_TERN, "pnpm-lock.yaml": ""}, ["pnpm install --frozen-lockfile"],
            ["there is no node_modules"]),
        ({"package.json": NEEDS_TERN, "yarn.lock": "", ".yarnrc.yml": ""}, ["yarn install --immutable"],
            ["there is no node_modules"]),
        ({"manage.py": "django", "harbour/settings.py": "'''using Django 5.2.8.'''"},
            ["python3 -m venv .venv", "install Django==5.2.*"],
                ["the project has none, and none is active", ".venv is new"]),
        ({"app.py": "import flask\napp = flask.Flask('x')", "requirements.txt": "flask\n"},
            ["python3 -m venv .venv", "install -r requirements.txt"],
                ["the project has none, and none is active", ".venv is new"]),
        ({"pyproject.toml": f'[project]\nname = "t"\ndependencies = ["tern>=2"]\n{BUILD}', "t/__main__.py": ""},
            ["python3 -m venv .venv", "install -e ."], ["the project has none, and none is active", ".venv is new"]),
        ({"pyproject.toml": '[project]\nname = "t"\ndependencies = ["tern>=2"]\n', "t/__main__.py": ""},
            ["python3 -m venv .venv", "install 'tern>=2'"], ["the project has none, and none is active",
                ".venv is new"]),
        ({"pyproject.toml": '[project]\nname = "t"\n', "t/__main__.py": ""}, [], []),
    ],
)  # fmt: skip
def test_what_is_prepared_and_why(
    tmp_path: Path, files: dict[str, str], commands: list[str], needed: list[str | None]
) -> None:
    steps = plan_of(tmp_path, files).prepare
    texts = [shown(step.command, step.folder, step.words) for step in steps]
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
    assert plan.runs[0].words["python"] == str(tmp_path / "ferry-env/bin/python")
    assert plan.runs[0].environment["PATH"] == f"{tmp_path / 'ferry-env/bin'}:/usr/bin"


_CLAUSES = st.tuples(
    st.sampled_from(["==", "===", "!=", "<", "<=", ">", ">=", "~=", "=", "~", ""]),
    st.sampled_from(["1", "1.0", "1.4.2", "1.*", "1.4.*", "2.0rc1", "1!1.0", "1.4+local", "2.dev1", "x", ""]),
).map("".join)


@given(
    name=st.sampled_from(["tern", "Tern_Quay", "tern.quay", "tern--quay", "gone"]),
    extras=st.sampled_from(["", "[fast]", " [ fast , wide ]", "[", "[]"]),
    clauses=st.lists(_CLAUSES, max_size=3).map(",".join),
    more=st.sampled_from(
        ["", " ", "; python_version < '3'", "; sys_platform == 'linux'", " @ https://x.invalid/t.whl", " # x"]
    ),
    version=st.sampled_from(["1.0", "1.4.2", "1.4.2+local", "2.0rc1", "2.0", "0.9.dev3", "odd"]),
)
def test_what_is_plainly_there_is_there(name: str, extras: str, clauses: str, more: str, version: str) -> None:
    """What is known without packaging is what packaging says; all else is left to it."""
    text, installed = f"{name}{extras}{clauses}{more}", {"tern": version, "tern-quay": version}
    if python_environment._is_plainly_there(text, installed):
        assert python_environment._first_missing([text], installed) is None, text


def test_most_of_what_is_there_is_known_without_packaging() -> None:
    installed = {"tern": "1.4.2", "tern-quay": "2.0"}
    for text in ("tern", "Tern_Quay>=1.2,<3", "tern[fast] == 1.4.*", "tern~=1.4"):
        assert python_environment._is_plainly_there(text, installed), text


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


def test_of_several_ways_the_best_is_taken_and_the_others_are_listed(tmp_path: Path) -> None:
    files = {"package.json": script("vite"), "manage.py": "django"}
    plan = plan_of(tmp_path, files)
    assert ([run.name for run in plan.runs], [run.name for run in plan.others]) == (["django"], ["dev"])
    assert [run.name for run in plan_of(tmp_path, files, ["dev"]).runs] == ["dev"]
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
    assert [run.in_words for run in plan.runs] == ["python3 -m board --port {port}"]
    os.utime(tmp_path / "board.out", (1, 1))
    assert [step.needed for step in plan_of(tmp_path, {}).prepare] == ["board.src has changed since"]
    os.utime(tmp_path / "board.src", (1, 1))
    assert [step.needed for step in plan_of(tmp_path, {}).prepare] == [None]
    (tmp_path / "board.out").unlink()
    assert [step.needed for step in plan_of(tmp_path, {}).prepare] == ["board.out is missing"]


def test_nothing_leads_out_of_the_checkout(tmp_path: Path) -> None:
    toml = 'format = 1\n[[run]]\nname = "a"\ncommand = "x"\nin = "../elsewhere"\n'
    with pytest.raises(PlanFault, match="is outside the checkout"):
        plan_of(tmp_path, {"dokimon.toml": toml})


def test_a_first_run_has_minutes(tmp_path: Path) -> None:
    """Downloads and first compilations take minutes: the limits that nobody set must allow for them."""
    plan = plan_of(tmp_path, {"package.json": NEEDS_TERN})
    assert plan.prepare[0].within == PREPARE_SECONDS >= 15 * 60
    assert plan.runs[0].within == UP_SECONDS >= 2 * 60


CARGO = '[package]\nname = "tide"\nversion = "0.1.0"\n'
JAVA_MAIN = "public class {} {{ public static void main(String[] a) {{}} }}\n"


@pytest.mark.parametrize(
    "files, expected",
    [
        ({"public/index.php": "<?php"}, ["php -S '127.0.0.1:{port}' -t public server 8000"]),
        ({"index.php": "", "router.php": "return false;"}, ["php -S '127.0.0.1:{port}' -t . router.php server 8000"]),
        ({"composer.json": "{}", "artisan": ""}, ["php artisan serve --host=127.0.0.1 '--port={port}' server 8000"]),
        ({"composer.json": '{"scripts": {"start": "php -S localhost:8888"}}'},
            ["composer run-script start server 8888"]),
        ({"pom.xml": "<plugin>spring-boot-maven-plugin</plugin>",
            "src/main/resources/application.properties": "server.port=9090"},
                ["mvn --batch-mode spring-boot:run server 9090"]),
        ({"pom.xml": "<p>exec-maven-plugin</p>", "mvnw": ""}, ["sh mvnw --batch-mode exec:java None None"]),
        ({"pom.xml": "<p/>", "src/main/java/quay/Main.java": JAVA_MAIN.format("Main")},
            ["prepare: mvn --batch-mode --quiet compile", "java -cp target/classes quay.Main None None"]),
        ({"build.gradle": "plugins { id 'application' }"}, ["gradle --no-daemon --console=plain --quiet run None None"]),
        ({"build.gradle.kts": 'plugins { id("org.springframework.boot") }'},
            ["gradle --no-daemon --console=plain --quiet bootRun server 8080"]),
        ({"settings.gradle": "", "board/build.gradle": "plugins { id 'application' }"},
            ["gradle --no-daemon --console=plain --quiet :board:run None None"]),
        ({"Board.java": JAVA_MAIN.format("Board"), "Tide.java": "class Tide {}"}, ["java Board.java None None"]),
                ({"CMakeLists.txt": "project(t)\nadd_executable(tides main.cpp)\nadd_executable(tide_tests t.cpp)",
            "main.cpp": ""}, ["prepare: cmake -S . -B build", "prepare: cmake --build build --parallel",
                "build/tides None None"]),
        ({"CMakeLists.txt": "add_subdirectory(app)", "app/CMakeLists.txt": "add_executable(tides main.cpp)",
            "CMakePresets.json": '{"configurePresets": [{"name": "base", "hidden": true}, {"name": "dev", '
                '"binaryDir": "${sourceDir}/out/${presetName}"}]}'},
                    ["prepare: cmake --preset dev", "prepare: cmake --build out/dev --parallel",
                        "out/dev/app/tides None None"]),
        ({"meson.build": "project('t', 'c')\nexe = executable('tides', 'main.c')"},
            ["prepare: meson setup builddir", "prepare: meson compile -C builddir", "builddir/tides None None"]),
        ({"Makefile": ".PHONY: run\nall: x\nrun:\n\t./x\n"}, ["make run None None"]),
        ({"Makefile": "CC := gcc\ntides: main.o\n\t$(CC) -o tides main.o\nclean:\n\trm tides\n", "main.c": ""},
            ["prepare: make", "./tides None None"]),
        ({"Cargo.toml": CARGO, "src/main.rs": ""}, ["prepare: cargo build", "cargo run --quiet --bin tide None None"]),
        ({"Cargo.toml": '[workspace]\nmembers = ["crates/*"]\n', "crates/tide/Cargo.toml": CARGO,
            "crates/tide/src/bin/low.rs": ""}, ["prepare: cargo build", "cargo run --quiet --bin low None None"]),
        ({"Cargo.toml": CARGO + 'default-run = "high"\n', "src/bin/low.rs": "", "src/bin/high.rs": ""},
            ["prepare: cargo build", "cargo run --quiet --bin high None None"]),
        ({"go.mod": "module saltmarsh.example/buoy\n", "main.go": "package main\nfunc main() {}\n"},
            ["go run . None None"]),
        ({"go.mod": "module x\n", "cmd/tide/main.go": "package main\nfunc main() {}\n"},
            ["go run ./cmd/tide None None"]),
        ({"Gemfile": "gem 'rack'\n", "config.ru": ""}, ["prepare: bundle install --quiet",
            "bundle exec rackup -o 127.0.0.1 -p '{port}' server 9292"]),
        ({"app.rb": ""}, ["ruby app.rb None None"]),
        ({"tides.rb": "", "README.md": ""}, ["ruby tides.rb None None"]),
        ({"tides.rb": "", "lib/x.rb": "", ".ruby-version": "3.1"}, ["ruby tides.rb None None"]),
        ({"Package.swift": 'let package = Package(targets: [.executableTarget(name: "tide")])'},
            ["swift run tide None None"]),
        ({"mix.exs": "{:phoenix, \"~> 1.7\"}"}, ["prepare: mix deps.get", "mix phx.server server 4000"]),
        ({"pubspec.yaml": "name: tide\n", "bin/tide.dart": "void main() {}"},
            ["prepare: dart pub get", "dart run bin/tide.dart None None"]),
        ({"deno.json": '{"tasks": {"dev": "deno run x.ts"}}'}, ["deno task dev None None"]),
        ({"CMakeLists.txt": "include($ENV{IDF_PATH}/tools/cmake/project.cmake)\nproject(buoy)"},
            ["idf.py build program None"]),
        ({"platformio.ini": "[env:buoy]\n"}, ["pio run program None"]),
        ({"tides.csproj": "<Project ToolsVersion='4.0'><PropertyGroup><OutputType>Exe</OutputType>"
            "<OutputPath>out\\</OutputPath><TargetFrameworkVersion>v4.7.2</TargetFrameworkVersion></PropertyGroup></Project>"},
                ["prepare: msbuild -restore -verbosity:quiet tides.csproj", "mono out/tides.exe None None"]),
        ({"build.xml": '<target name="compile"/>\n<target name="run" depends="compile"/>'}, ["ant -q run None None"]),
        ({"build.xml": '<property name="out" value="dist"/><jar destfile="${out}/tides.jar"><manifest>\n'
            '<attribute name="Main-Class" value="quay.Main"/>'}, ["prepare: ant -q", "java -jar dist/tides.jar None None"]),
        ({"tides.pro": "QT += widgets\nSOURCES += main.cpp\n"}, ["prepare: qmake tides.pro", "prepare: make",
            "./tides None None"]),
        ({"build.sbt": "", "src/main/scala/quay/Main.scala": "object Main extends App {\n"}, ["sbt -batch run None None"]),
        ({"project.clj": "(defproject tides\n  :main quay.core)"}, ["lein run None None"]),
        ({"deps.edn": '{:aliases {:run {:main-opts ["-m" "quay"]}}}'}, ["clojure -M:run None None"]),
        ({"rebar.config": "{escript_name, tides}.\n"}, ["prepare: rebar3 escriptize",
            "_build/default/bin/tides None None"]),
        ({"dune-project": "(lang dune 3.0)", "bin/dune": "(executable\n (public_name tides)\n (name main))"},
            ["prepare: dune build", "dune exec --no-print-directory tides None None"]),
        ({"tides.nimble": 'bin = @["tides"]\n'}, ["prepare: nimble build", "./tides None None"]),
        ({"shard.yml": "name: tides\ntargets:\n  tides:\n    main: src/tides.cr\n"},
            ["prepare: shards build tides", "bin/tides None None"]),
        ({"build.zig": 'const run = b.step("run", "Run it");'}, ["zig build run None None"]),
        ({"gleam.toml": "", "src/tides.gleam": "pub fn main() {\n"}, ["gleam run None None"]),
        ({"tides-1.rockspec": 'build = { install = { bin = { tides = "bin/tides" } } }'}, ["lua bin/tides None None"]),
        ({"main.lua": "function love.draw()\nend"}, ["love . None None"]),
        ({"app.R": ""}, ["Rscript -e 'shiny::runApp(port = {port}, launch.browser = FALSE)' server any"]),
        ({"mkdocs.yml": "site_name: Tides\ntheme:\n  name: material\n"}, ["prepare: python3 -m venv .venv",
            "prepare: .venv/bin/python -m pip --disable-pip-version-check --no-input install mkdocs mkdocs-material",
                "mkdocs serve --dev-addr '127.0.0.1:{port}' server 8000"]),
        ({"_config.yml": "title: Tides\n", "_posts/2026-11-01-high.md": ""},
            ["jekyll serve --host 127.0.0.1 --port '{port}' server 4000"]),
        ({"hugo.toml": "", "content/_index.md": ""}, ["hugo server --bind 127.0.0.1 --port '{port}' server 1313"]),
        ({"book.toml": "[book]\n"}, ["mdbook serve --hostname 127.0.0.1 --port '{port}' server 3000"]),
        ({"site/index.html": ""}, ["PYTHON -m http.server '{port}' --bind 127.0.0.1 --directory site server 8000"]),
    ],
)  # fmt: skip
def test_how_other_ecosystems_start(tmp_path: Path, files: dict[str, str], expected: list[str]) -> None:
    plan = plan_of(tmp_path, files)
    told = [f"prepare: {shown(step.command, step.folder, step.words)}" for step in plan.prepare]
    told += [f"{run.in_words} {run.kind} {run.port}" for run in plan.runs]
    assert [text.replace(sys.executable, "PYTHON") for text in told] == expected
    assert all((tmp_path / each.source.file).exists() for each in (*plan.prepare, *plan.runs))


SCRIPTS = '[project]\nname = "tides"\n[project.scripts]\nhigh-water = "tides.cli:main"\ntides = "tides.cli:main"\n'
CLI = "#!/usr/bin/env node\nconsole.log(1)\n"


@pytest.mark.parametrize(
    "files, first, others",
    [
        ({"pyproject.toml": SCRIPTS, "tides/__init__.py": ""}, "tides", ["high-water"]),
        ({"setup.cfg": "[options.entry_points]\nconsole_scripts =\n    tides = tides:main\n", "setup.py": ""}, "tides", []),
        ({"setup.py": "setup(entry_points={'console_scripts': ['tides = tides:main']})"}, "tides", []),
        ({"pyproject.toml": "[tool.poetry.scripts]\ntides = 'tides:main'\n"}, "tides", []),
        ({"package.json": json.dumps({"name": "tides", "bin": {"low": "low.js", "tides": "cli.js"}, "main": "lib.js"}),
            "cli.js": CLI, "low.js": CLI, "lib.js": "module.exports = 1"}, "node cli.js", ["node low.js"]),
        ({"package.json": script("concurrently 'npm:web' 'npm:api'"), "manage.py": "django"}, "npm run dev",
            [".venv/bin/python manage.py runserver '127.0.0.1:{port}'"]),
        ({"Procfile": "release: ./migrate\nweb: gunicorn app:app -b :$PORT\nworker: python3 work.py\n"},
            "gunicorn app:app -b :$PORT", ["python3 work.py"]),
        ({"package.json": json.dumps({"name": "t", "bin": "cli.js", "scripts": {"dev": "tsc --watch", "watch": "tsc -w"}}),
            "cli.js": CLI}, "node cli.js", ["npm run dev"]),
        ({"src/Makefile": "QUAY_NAME=tides$(SUFFIX)\nall: $(QUAY_NAME)\n$(QUAY_NAME): $(QUAY_OBJ)\n\t$(LD) -o $@ $^\n"},
            "./tides", []),
        ({"configure.ac": "AC_INIT(quay.c)", "Makefile.in": "T=low$(EXEEXT) \\\n  high$(EXEEXT)\nEXEEXT=@EXEEXT@\n"
            "all: $(T)\nlow$(EXEEXT): $(OBJ)\n\t$(LD) -o $@ x\nhigh: a.o\n\t$(LD) -o $@ x\n"}, "./low", ["./high"]),
        ({"CMakeLists.txt": "add_executable(t_cli m.c)\nset_target_properties(t_cli PROPERTIES OUTPUT_NAME tides)\n"
            "set(CMAKE_RUNTIME_OUTPUT_DIRECTORY ${CMAKE_BINARY_DIR}/bin)\n"}, "build/bin/tides", []),
        ({"meson.build": "project('tides', 'vala')\nexecutable(meson.project_name(), ['t.vala'])"}, "builddir/tides", []),
        ({"justfile": "build:\n    cc x.c\nserve port='1':\n    ./x\n"}, "just serve", []),
        ({"Taskfile.yml": "version: '3'\ntasks:\n  start:\n    cmds: [./x]\n"}, "task start", []),
        ({"Makefile": "run:\n\t./x\nserve:\n\tdocker compose up\n"}, "make run", ["make serve"]),
        ({"run.sh": "#!/bin/bash\n./x\n"}, "bash run.sh", []),
        ({"configure.ac": "AC_INIT([tides], [1])\n", "Makefile.am": "bin_PROGRAMS = tides low\n"}, "./tides", ["./low"]),
        ({"Makefile": "all: tides\n", "tides.c": ""}, "./tides", []),
        ({"Makefile": "help:\n\t@echo x\nTARGET = low-water\nall: $(TARGET)\n"}, "./low-water", []),
        ({"Makefile": "all:\n\tcd src && make\n", "src/Makefile": "tides: a.o\n\t$(CC) -o $@ $^\n"}, "./tides", []),
        ({"meson.build": "project('tides', 'c')\nsubdir('src')\n", "src/meson.build": "executable('low', 'l.c')\n"
            "executable('tides', 't.c')\nexecutable('test-tides', 'x.c')\n"}, "builddir/src/tides", ["builddir/src/low"]),
        ({"app.psgi": ""}, "plackup --host 127.0.0.1 --port '{port}' app.psgi", []),
        ({"board.pl": "use Mojolicious::Lite;"}, "perl board.pl daemon -l 'http://127.0.0.1:{port}'", []),
        ({"tides.cabal": "name: tides\nexecutable tides\n"}, "cabal exec -- tides", []),
        ({"go.mod": "module saltmarsh.example/tides/v2\n", "cmd/gen/main.go": "package main\nfunc main() {}\n",
            "cmd/tides/main.go": "package main\nfunc main() {}\n", "build.go": "//go:build ignore\n\npackage main\n"
                "func main() {}\n"}, "go run ./cmd/tides", ["go run ./cmd/gen"]),
        ({"composer.json": '{"bin": ["bin/tides"]}', "bin/tides": "<?php"}, "php bin/tides", []),
        ({"tides.gemspec": "", "exe/tides": "#!/usr/bin/env ruby\n"}, "ruby -Ilib exe/tides", []),
        ({"web/manage.py": "django", "docs/manage.py": "django", "requirements.txt": ""},
            ".venv/bin/python manage.py runserver '127.0.0.1:{port}'", []),
        ({"board.py": "print('high water')\n"}, "python3 board.py", []),
    ],
)  # fmt: skip
def test_the_best_way_and_the_others(tmp_path: Path, files: dict[str, str], first: str, others: list[str]) -> None:
    plan = plan_of(tmp_path, files)
    runs, left = ([run.in_words.replace(f"{tmp_path}/", "") for run in each] for each in (plan.runs, plan.others))
    assert (runs, left) == ([first], others)
    assert all((tmp_path / run.source.file).exists() for run in (*plan.runs, *plan.others))


@pytest.mark.parametrize(
    "files, says",
    [
        ({"README.md": "# Tides\n\n## Usage\n\n```\n$ npm start\n$ python3 tides/show.py\n```\n", "tides/show.py": ""},
            r"--run readme +python3 tides/show\.py"),
        ({"Dockerfile": 'FROM x\nCMD ["node", "board.js"]\n'}, r"--run container +node board\.js +\(Dockerfile:2\)"),
        ({"Makefile": "serve:\n\tdocker compose up\n"}, r'--run make serve +make serve'),
        ({"package.json": '{"main": "lib.js"}', "lib.js": "x = 1"}, r"--run lib +node lib\.js"),
        ({".vscode/launch.json": '{"configurations": [{"type": "node", "program": "${workspaceFolder}/x.js"}]}',
            "x.js": ""}, r"--run editor +node x\.js"),
    ],
)  # fmt: skip
def test_where_nothing_is_certain_it_is_said_what_could_be_tried(
    tmp_path: Path, files: dict[str, str], says: str
) -> None:
    with pytest.raises(PlanFault, match=rf"(?s)could be tried, in this order:.*{says}"):
        plan_of(tmp_path, files)


def test_a_folder_of_parts_lists_them_and_runs_all_when_asked(tmp_path: Path) -> None:
    files = {"web/package.json": script("vite"), "api/app.py": "import flask\napp = flask.Flask('x')\n",
        "api/requirements.txt": "flask\n", "docs/package.json": script("vitepress")}  # fmt: skip
    with pytest.raises(PlanFault, match=r"(?s)several parts.*--run api .*--run web "):
        plan_of(tmp_path, files)
    assert [run.name for run in plan_of(tmp_path, files, ["web"]).runs] == ["web"]
    only = {"board/package.json": script("vite")}
    assert [run.folder.name for run in plan_of(tmp_path / "one", only).runs] == ["board"]


@pytest.mark.parametrize(
    "files, needed",
    [
        ({}, "there is no server.js yet"),
        ({"dist/server.js": ""}, None),
        ({"dist/server.js": "", "src/new.ts": ""}, "new.ts is newer than server.js"),
    ],
)  # fmt: skip
def test_what_is_started_from_a_build_is_built_first(tmp_path: Path, files: dict[str, str], needed: str | None) -> None:
    package = json.dumps({"scripts": {"start": "node dist/server.js", "build": "tsc"}})
    plan_of(tmp_path, {"package.json": package, **files})
    for path in tmp_path.rglob("server.js"):
        os.utime(path, (1_000_000, 1_000_000) if "src/new.ts" in files else None)
    (step,) = plan_of(tmp_path, {}).prepare
    assert (step.title, step.needed) == ("build", needed)


def test_the_tables_of_a_local_database_are_made_where_it_is_not_there_yet(tmp_path: Path) -> None:
    settings = "DATABASES = {'default': {\n'ENGINE': 'django.db.backends.sqlite3',\n'NAME': BASE_DIR / 'db.sqlite3'}}\n"
    files = {"manage.py": "django", "board/settings.py": settings}
    assert [step.needed for step in plan_of(tmp_path, files).prepare][-1] == "there is no db.sqlite3 yet"
    assert [step.needed for step in plan_of(tmp_path, {"db.sqlite3": ""}).prepare][-1] is None
    other = {"board/settings.py": settings.replace("sqlite3", "postgresql")}
    assert "tables" not in plan_of(tmp_path, other).prepare[-1].title


def test_a_build_older_than_its_sources_is_never_started(tmp_path: Path) -> None:
    files = {
        "CMakeLists.txt": "add_executable(tides main.cpp)",
        "main.cpp": "",
        "build/CMakeCache.txt": "",
        "build/tides": "",
    }
    plan_of(tmp_path, files)
    for name in ("build/CMakeCache.txt", "build/tides"):
        os.utime(tmp_path / name, (2_000_000_000, 2_000_000_000))
    assert [step.needed for step in plan_of(tmp_path, {}).prepare] == [None, None]
    os.utime(tmp_path / "main.cpp", (2_000_000_100, 2_000_000_100))
    assert [step.needed for step in plan_of(tmp_path, {}).prepare] == [None, "main.cpp is newer than tides"]


LOCKED = '{"packages": [{"name": "tern/wing", "version": "1.2.0"}]}'


@pytest.mark.parametrize(
    "files, needed",
    [
        ({}, "there is no vendor/autoload.php"),
        ({"vendor/autoload.php": "", "vendor/composer/installed.json": LOCKED}, None),
        ({"vendor/autoload.php": "", "vendor/composer/installed.json": LOCKED.replace("1.2", "1.1")},
            "composer.lock wants tern/wing 1.2.0, vendor has 1.1.0"),
        ({"vendor/autoload.php": ""}, "composer.lock wants tern/wing 1.2.0, vendor has none of it"),
    ],
)  # fmt: skip
def test_whether_composer_must_install(tmp_path: Path, files: dict[str, str], needed: str | None) -> None:
    base = {"composer.json": '{"require": {"tern/wing": "^1"}}', "composer.lock": LOCKED, "public/index.php": ""}
    (step,) = plan_of(tmp_path, {**base, **files}).prepare
    assert step.needed == needed


@pytest.mark.parametrize(
    "files, lines",
    [
        ({"site/index.html": "<!doctype html><title>Quay</title><p>Boats"},
            ['name = "pages"', "port = 8000", 'get = "/"']),
        ({"main.py": "print('high water')\nif __name__ == '__main__':\n    pass\n", "requirements.txt": ""},
            ['command = "{python} main.py"']),
        ({"Makefile": "run:\n\t@echo high water\n"}, ['name = "make run"', 'command = "make run"']),
    ],
)  # fmt: skip
def test_what_init_writes_does_what_was_done_without_it(
    usual_port: None, world: World, files: dict[str, str], lines: list[str]
) -> None:
    world.tool("make", "echo high water")
    world.write(dict(files))
    before = world.dokimon("smoke", "--format", "json").report
    ended = world.dokimon("init")
    assert ended.status == 0 and "wrote" in ended.out, ended
    text = (world.checkout / "dokimon.toml").read_text()
    assert all(line in text for line in lines), text
    after = world.dokimon("smoke", "--format", "json").report
    assert after["verdict"] == before["verdict"] == "passed"
    assert [run["name"] for run in after["runs"]] == [run["name"] for run in before["runs"]]
    again = world.dokimon("init")
    assert again.status == 2 and "is there already" in again.err
    assert (world.checkout / "dokimon.toml").read_text() == text


def test_init_where_nothing_is_known_leaves_a_beginning(world: World) -> None:
    world.write({"notes.txt": ""})
    shown = world.dokimon("init", "--show")
    assert shown.status == 0 and "format = 1" in shown.out and "[[run]]" not in shown.out
    assert not (world.checkout / "dokimon.toml").exists()


def test_init_proposes_what_the_last_smoke_check_saw(usual_port: None, world: World) -> None:
    world.write(
        {
            "index.html": "<!doctype html><title>Quay 7</title><p>Boats",
            "package.json": '{"version": "1.4.0"}',
        }
    )
    world.tool("node", "echo v20.11.1")
    world.tool("npm", "echo 10.2.4")
    assert "title" not in world.dokimon("init", "--show").out
    assert world.dokimon("smoke").status == 0
    shown = world.dokimon("init", "--show").out
    assert 'title = "Quay 7"' in shown and 'listens = ["127.0.0.1"]' in shown and "delete the rest" in shown
    log = world.checkout / "x.log"
    log.write_text("starting\nSaltmarsh board v1.4.0 is up\n")
    run = Run(name="pages", command="x", kind="server", verdict="passed", reason="", log=str(log))
    remember([run], world.checkout, Logs(world.checkout, world.environment))
    shown = world.dokimon("init", "--show").out
    assert "printed = 'board v?(\\d\\S*)'" in shown and 'same_as = {file = "package.json", at = "/version"}' in shown


@pytest.mark.parametrize(
    "files, said",
    [
        ({"package.json": '{"scripts": {"start": "node a.js",}}'}, "package.json:1: package.json is not valid JSON"),
        ({"Cargo.toml": "[package\n"}, "Cargo.toml:1: Cargo.toml"),
        ({"board.csproj": "<Project><a></Project>"}, "board.csproj:1: board.csproj is not valid XML"),
    ],
)
def test_a_manifest_that_cannot_be_read_is_named(tmp_path: Path, files: dict[str, str], said: str) -> None:
    with pytest.raises(PlanFault, match=re.escape(said)):
        plan_of(tmp_path, files)
