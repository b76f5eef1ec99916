"""What the files of a checkout, an unmet need and the frames of a stack show of a failure."""

from __future__ import annotations

from pathlib import Path

import msgspec
import pytest

from dokimon.core.diagnosis.diagnosing import diagnose
from dokimon.core.diagnosis.frames import frame_of
from dokimon.core.machine.catalogue import Catalogue
from dokimon.core.report.model import Diagnosis, Finding, Remedy
from dokimon.core.smoking.looking_at_files import node_module
from dokimon.core.smoking.looking_up import looks
from dokimon.core.smoking.shown.by_checkout import shown_by_checkout
from dokimon.core.smoking.shown.settings import port_at, variable_read_at
from dokimon.core.smoking.unmet import unmet_need
from dokimon.core.smoking.workable import workable
from dokimon.core.source import Source

POINTER = "version https://git-lfs.github.com/spec/v1\noid sha256:4d7a2146\nsize 12345\n"
MODULES = '[submodule "engine"]\n\tpath = engine\n\turl = https://saltmarsh.invalid/engine\n'
COMPOSE = "services:\n  store:\n    image: postgres\n"


@pytest.mark.parametrize(
    "files, line, name, says",
    [
        ({".gitmodules": MODULES, "engine/": ""}, "ModuleNotFoundError: No module named 'engine'", "submodule-empty",
            "git submodule update --init --recursive"),
        ({".gitmodules": MODULES, "engine/a.py": ""}, "ModuleNotFoundError: No module named 'engine'", None, ""),
        ({".gitmodules": MODULES, "engine/": ""}, "ModuleNotFoundError: No module named 'engines'", None, ""),
        ({"tides.json": POINTER}, "json.decoder.JSONDecodeError: Expecting value: line 1", "lfs-pointer",
            "git lfs install --local && git lfs pull"),
        ({"tides.json": "{}"}, "json.decoder.JSONDecodeError: Expecting value: line 1", None, ""),
        ({"a.csv": "-> ../data/a.csv"}, "No such file or directory: 'a.csv'", "broken-link", "../data/a.csv"),
        ({"a.csv": "-> b.csv", "b.csv": ""}, "No such file or directory: 'a.csv'", None, ""),
        ({"data/Board.txt": ""}, "No such file or directory: 'data/board.txt'", "other-letters", "Board.txt"),
        ({"data/Board.txt": ""}, "reading data/board.txt", None, ""),
        ({}, "x" * 5000 + ": No such file or directory", None, ""),
        ({"run.sh": "#!/bin/sh\r\necho\r\n"}, "make: ./run.sh: No such file or directory", "carriage-returns", "run.sh"),
        ({"run.sh": "#!/bin/sh\necho\r\n"}, "make: ./run.sh: No such file or directory", None, ""),
        ({"bin/tides": "const x = require('fs')\n"}, 'bin/tides: 1: Syntax error: "(" unexpected', "no-first-line",
            "node bin/tides"),
        ({"bin/tides": "x=(1)\n"}, 'bin/tides: 1: Syntax error: "(" unexpected', None, ""),
        ({"node_modules/tern/package.json": "{\"name\": \"tern\"}"}, "Error: Cannot find module 'tern'", "package-broken",
            "install it again"),
        ({}, "Error: Cannot find module 'tern'", None, ""),
        ({"package.json": '{"name": "x"}', "node_modules/": ""}, "Error: Cannot find module '..'", None, ""),
        ({"a;b.example.json": ""}, "Error: Cannot find module './a;b.json'", "module-file", "cp 'a;b.example.json' 'a;"),
        ({"lib/tide.js": ""}, "Cannot find module './lib/tide' imported from {root}/server.mjs", "module-file", "tide.js"),
        ({"config.example.json": ""}, "Error: Cannot find module './config.json'", "module-file", "cp config.example.json"),
        ({"package.json": '{"scripts": {"build": "x"}}'}, "Error: Cannot find module './dist/a.js'", "module-file",
            "npm run build"),
        ({"package.json": "{}"}, "Error: Cannot find module './dist/a.js'", "module-file", "bring dist/a.js"),
        ({".env": "TIDE_KEY=1\n"}, "KeyError: 'TIDE_KEY'", "dotenv-unread", "set -a; . ./.env; set +a"),
        ({".env": "TIDE=1\n"}, "KeyError: 'TIDE_KEY'", None, ""),
        ({"compose.yaml": COMPOSE}, "Error: getaddrinfo ENOTFOUND store", "compose-host", "docker compose up -d store"),
        ({}, "Error: getaddrinfo ENOTFOUND store", None, ""),
        ({"quay.py": ""}, "AttributeError: module 'quay' has no attribute 'go'", "attribute-missing", ""),
        ({}, "AttributeError: module 'math' has no attribute 'tide'", "attribute-missing", ""),
        ({}, "AttributeError: module 'tern' has no attribute 'go'", None, ""),
        ({"package.json": '{"dependencies": {"tern": "file:../tern"}}'}, "Error: Cannot find module 'tern'",
            "linked-package-missing", "bring that folder"),
        ({"tsconfig.json": '{"paths": {"@/*": ["src/*"]}}'}, "Error: Cannot find module '@/tides'", "alias-unknown",
            "@/tides"),
        ({"tsconfig.json": '{"paths": {"@/*": ["src/*"]}}'}, "Error: Cannot find module '@quay/tides'", None, ""),
        ({"a.ts": ""}, "{root}/a.ts:1\nSyntaxError: Unexpected token", "typescript-alone", "a.ts"),
        ({"a.js": ""}, "{root}/a.js:1\nSyntaxError: Unexpected token", None, ""),
        ({"manage.py": "os.environ.setdefault('DJANGO_SETTINGS_MODULE', 'harbour.settings')"},
            "ModuleNotFoundError: No module named 'harbour'", "settings-module-missing", "harbour.settings"),
        ({"manage.py": "os.environ.setdefault('DJANGO_SETTINGS_MODULE', 'harbour.settings')"},
            "ModuleNotFoundError: No module named 'quay'", None, ""),
        ({"lib/tides.py": ""}, "ModuleNotFoundError: No module named 'tides'", "module-elsewhere", "export PYTHONPATH=lib"),
        ({"tests/tides.py": ""}, "ModuleNotFoundError: No module named 'tides'", None, ""),
        ({"quay/board.py": ""}, '  File "{root}/quay/board.py", line 1\nattempted relative import with no'
            " known parent package", "relative-import", "python -m quay.board"),
        ({"go.mod": "module saltmarsh.example/board\n"},
            "no required module provides package saltmarsh.example/board/tides;", "own-package-missing",
            "bring the folder tides"),
        ({"go.mod": "module saltmarsh.example/board\n"},
            "no required module provides package saltmarsh.example/quay;", None, ""),
    ],
)  # fmt: skip
def test_what_the_checkout_shows(tmp_path: Path, files: dict[str, str], line: str, name: str | None, says: str) -> None:
    for file, content in files.items():
        path = tmp_path / file
        path.parent.mkdir(parents=True, exist_ok=True)
        if file.endswith("/"):
            path.mkdir()
        elif content.startswith("-> "):
            path.symlink_to(content.removeprefix("-> "))
        else:
            path.write_bytes(content.encode())
    found = shown_by_checkout(["starting", *line.replace("{root}", str(tmp_path)).split("\n")], tmp_path, tmp_path)
    assert [each.name for each in found[:1]] == ([name] if name else [])
    told = " ".join(
        f"{each.cause} {step.say} {step.command}" for each in found[:1] for step in (*each.remedies, *_NOTHING)
    )
    assert says in told


class _Nothing:
    say = command = ""


_NOTHING = (_Nothing(),)


@pytest.mark.parametrize(
    "lines, number, place",
    [
        (["Traceback (most recent call last):", '  File "{root}/main.py", line 4, in <module>', "    board.go()",
            '  File "{root}/board.py", line 2, in go', '  File "/usr/lib/python3.11/json.py", line 9, in load',
            "KeyError: 'tides'"], 5, "board.py:2"),
        (['  File "{root}/main.py", line 4', "served 3", "KeyError: 'tides'"], 2, None),
        (["TypeError: x is not a function", "    at load (node:internal/modules:12:3)",
            "    at go ({root}/node_modules/tern/i.js:1:1)", "    at Object.x ({root}/board.js:7:2)"], 0, "board.js:7"),
        (["{root}/board.js:3", "const x = ;", "          ^", "SyntaxError: Unexpected token ';'"], 3, "board.js:3"),
        (["panic: low water", "", "goroutine 1 [running]:", "main.main()", "\t{root}/main.go:5 +0x1d"], 0, "main.go:5"),
        (["java.lang.IllegalStateException: low", "\tat java.base/x(Unknown Source)", "\tat quay.Board.main(Board.java:12)"],
            0, "src/main/java/quay/Board.java:12"),
        (["board.rb:4:in `tide': no water (RuntimeError)"], 0, "board.rb:4"),
        (["PHP Parse error:  syntax error in {root}/index.php on line 2"], 0, "index.php:2"),
        (["elsewhere.py:4: low water"], 0, None),
    ],
)  # fmt: skip
def test_the_place_in_the_projects_own_code(tmp_path: Path, lines: list[str], number: int, place: str | None) -> None:
    for name in ("main.py", "board.py", "board.js", "main.go", "board.rb", "index.php", "src/main/java/quay/Board.java",
            "node_modules/tern/i.js"):  # fmt: skip
        path = tmp_path / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.touch()
    assert frame_of([line.replace("{root}", str(tmp_path)) for line in lines], number, tmp_path) == place


def test_a_step_of_another_kind_of_project_is_left_out(tmp_path: Path) -> None:
    found = Diagnosis(name="x", cause="x", remedies=(Remedy("install the gems", "bundle install"), Remedy("look")))
    assert workable([found], tmp_path)[0].remedies == (Remedy("look"),)


@pytest.mark.parametrize(
    "files, command, here",
    [
        ((), "npm install --save-dev tern", "npm install --save-dev tern"),
        (("pnpm-lock.yaml",), "npm install --save-dev tern", "pnpm add -D tern"),
        (("yarn.lock",), "npm install tern", "yarn add tern"),
        (("yarn.lock",), "rm -rf node_modules && npm install", "rm -rf node_modules && yarn install"),
        (("pnpm-lock.yaml",), "npm run build", "pnpm run build"),
        (("bun.lock",), "npx prisma generate", "bunx prisma generate"),
        ((), "pip install -e .", "pip install -e ."),
        ((".venv/bin/python",), "pip install -e .", ".venv/bin/python -m pip install -e ."),
        ((".venv/bin/python",), "python -m pip install 'numpy<2'", ".venv/bin/python -m pip install 'numpy<2'"),
    ],
)
def test_a_step_is_told_in_the_words_of_the_project(
    tmp_path: Path, files: tuple[str, ...], command: str, here: str
) -> None:
    for name in ("package.json", *files):
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).write_text('{"scripts": {"build": "x"}}')
    found = Diagnosis(name="x", cause=f"{tmp_path}/a is not there", remedies=(Remedy("do it", command),))
    (held,) = workable([found], tmp_path)
    assert (held.cause, held.remedies) == ("a is not there", (Remedy("do it", here),))


@pytest.mark.parametrize(
    "code, at, variable",
    [
        ("import os\nport = int(os.getenv('TIDE_PORT'))\n", 2, "TIDE_PORT"),
        ("import os\nport = int(os.getenv('TIDE_PORT', '1'))\n", 2, None),
        ("import os\nport = os.environ.get('TIDE_PORT')\nint(port)\n", 3, "TIDE_PORT"),
        ("import os\nport = os.environ.get('TIDE_PORT')\nint(quay)\n", 3, None),
        ("const at = process.env.TIDE_URL || 'x';\nnew URL(at);\n", 2, None),
        ("const at = process.env.TIDE_URL;\nnew URL(at);\n", 2, "TIDE_URL"),
        ("const at = process.env.TIDE_SET;\nnew URL(at);\n", 2, None),
        ("x\n", 7, None),
    ],
)
def test_the_variable_that_the_failed_line_reads(tmp_path: Path, code: str, at: int, variable: str | None) -> None:
    (tmp_path / "main").write_text(code)
    found = variable_read_at(Diagnosis(name="not-known", cause="", at=f"main:{at}"), tmp_path, {"TIDE_SET": "1"})
    assert (found and found.cause) == (
        variable and f"the environment variable {variable}, which main reads, is not set"
    )


@pytest.mark.parametrize(
    "line, port",
    [
        ("server = HTTPServer(('127.0.0.1', 8231), Board)", 8231),
        ("new java.net.ServerSocket(8236);", 8236),
        ("listen(PORT)", None),
        ("retry(3)", None),
    ],
)
def test_the_port_that_the_failed_line_names(tmp_path: Path, line: str, port: int | None) -> None:
    (tmp_path / "main").write_text(f"\n{line}\n")
    assert port_at(Diagnosis(name="port-in-use", cause="", at="main:2"), tmp_path) == port


def test_lines_of_code_that_a_runtime_quotes_are_not_what_it_said() -> None:
    quoted = [
        "/srv/a.js:1",
        "if (!process.env.TIDE_KEY) throw new Error('TIDE_KEY is required');",
        "Error: TIDE_KEY is required",
    ]
    assert diagnose(quoted, 1)[0].line == quoted[-1]
    frozen = ['  File "<frozen os>", line 679, in __getitem__', "KeyError: 'TIDE_KEY'"]
    assert diagnose(frozen, 1)[0].name == "variable-missing"


def test_the_exception_of_a_part_comes_before_that_the_part_has_ended() -> None:
    lines = ["[0] Error: the tide is out", "[0] node server.js exited with code 1"]
    assert [each.name for each in diagnose(lines, 1)] == ["not-known", "part-ended"]
    assert [each.name for each in diagnose(lines[1:], 1)] == ["part-ended"]


def test_what_the_lines_below_say_is_part_of_the_cause() -> None:
    lines = ["Missing environment variables:", "    TIDE_URL: where the tides are", "    TIDE_KEY: who asks", "done"]
    assert diagnose(lines, 1)[0].cause == "variables are not set: TIDE_URL, TIDE_KEY"


def test_a_program_that_says_no_word_of_an_error_says_it_last() -> None:
    lines = ["> error-board@0.0.0 start", "> node server.js", "", "the tides are closed", "npm error code 3"]
    assert [each.line for each in diagnose(lines, 3)] == ["the tides are closed"]


def _need(tool: str, verdict: str, strength: str = "required") -> Finding:
    source = msgspec.to_builtins(Source("package.json", 1, ""))
    fixed = {"id": f"{tool}#1", "language": "npm", "kind": "tool", "wanted": ">=99", "accepts": "99 or newer"}
    found = {"version": "20.1.0", "path": "/usr/bin/x"}
    return msgspec.convert(
        fixed | {"tool": tool, "verdict": verdict, "strength": strength, "source": source, "found": found}, Finding
    )


@pytest.mark.parametrize(
    "needs, command, tool",
    [
        ([_need("node", "unmet")], "npm run start", "node"),
        ([_need("node", "unmet", "advised")], "npx expo start", "node"),
        ([_need("node", "unmet", "advised"), _need("npm", "unmet")], "npm run start", "npm"),
        ([_need("node", "unmet")], "python main.py", None),
        ([_need("node", "met")], "npm run start", None),
    ],
)
def test_a_need_that_is_not_met_of_what_runs(needs: list[Finding], command: str, tool: str | None) -> None:
    found = unmet_need([each for each in needs if each.verdict != "met"], command)
    assert (found.cause if found else None) == (
        f"{tool} 20.1.0 runs it, and package.json:1 asks for 99 or newer" if tool else None
    )


@pytest.mark.parametrize(
    "command, files, works",
    [
        ("npm run build", {"package.json": '{"scripts": {"build": "x"}}'}, True),
        ("npm run build", {"package.json": '{"scripts": {"dev": "x"}}'}, False),
        ("bundle install", {"Gemfile": ""}, True),
        ("sudo apt-get install tern", {}, True),
        (".venv/bin/python -m pip install -r requirements.txt", {}, False),
        (".venv/bin/python -m pip install -r requirements.txt", {"requirements.txt": ""}, True),
        ("bash run.sh", {}, False),
        ("php artisan key:generate", {}, False),
        ("set -a; . ./.env; set +a", {}, True),
    ],
)
def test_a_step_is_held_against_the_checkout(tmp_path: Path, command: str, files: dict[str, str], works: bool) -> None:
    for name, text in files.items():
        (tmp_path / name).write_text(text)
    found = Diagnosis(name="x", cause="x", remedies=(Remedy("do it", command), Remedy("do it", command)))
    (held,) = workable([found], tmp_path)
    assert held.remedies == (Remedy("do it", command if works else None),)


def test_a_command_whose_program_is_not_here_is_left_out(tmp_path: Path) -> None:
    (tmp_path / "bin").mkdir()
    lines = ["Could not find rails-7.1.0 in locally installed gems", "Run `bundle install` to install missing gems."]
    known = looks({"PATH": str(tmp_path / "bin")}, tmp_path, Catalogue())
    assert [step.command for step in diagnose(lines, 1, known)[0].remedies] == [None]
    (tmp_path / "bin/bundle").write_text("#!/bin/sh\n")
    (tmp_path / "bin/bundle").chmod(0o755)
    assert [step.command for step in diagnose(lines, 1, known)[0].remedies] == ["bundle install"]


@pytest.mark.parametrize(
    "manifest, there, module, command",
    [
        ("{}", (), "tern", "npm install tern"),
        ('{"dependencies": {"tern": "1"}}', (), "tern", None),
        (
            '{"dependencies": {"tern": "1"}}',
            ("node_modules/.package-lock.json",),
            "tern/low",
            "rm -rf node_modules && npm install",
        ),
        ('{"devDependencies": {"tern": "1"}}', ("node_modules/x",), "tern", "npm install --include=dev"),
        ("{}", (), "src/app.js", ""),
        ("{}", (), "components/Board", ""),
        ("{}", ("quay/a.js",), "quay", ""),
    ],
)
def test_what_brings_a_module(
    tmp_path: Path, manifest: str, there: tuple[str, ...], module: str, command: str | None
) -> None:
    (tmp_path / "package.json").write_text(manifest.replace("{}", '{"name": "x"}'))
    for name in there:
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).touch()
    steps = node_module(module, tmp_path)
    assert (None if not steps else steps[0].command or "") == command
