"""Python: an application object of a web framework, or a script that a framework's command serves.

`python_applications.toml` says which there are. Files are read as text, never imported.
"""

from __future__ import annotations

import ast
import re
import tomllib
from collections.abc import Iterator
from functools import cache
from pathlib import Path
from typing import NamedTuple

import msgspec

from dokimon.core.files import text_of
from dokimon.core.planning.plan import PlanContext, Rank, RunPlan
from dokimon.core.planning.planners.python_environment import declares
from dokimon.core.planning.planners.python_files import guard
from dokimon.core.planning.planners.python_start import SKIPPED_FOLDERS, Start, is_project
from dokimon.core.source import Source
from dokimon.core.text import clean

_USUAL_FILES = ("app.py", "wsgi.py", "main.py", "asgi.py", "application.py", "server.py", "api.py", "run.py")
_FACTORIES = ("create_app", "make_app")


class _Application(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    class_: str = msgspec.field(name="class")
    name: str
    packages: tuple[str, ...]
    command: tuple[str, ...] = ()
    port: int = 8000
    asgi: bool = False
    unless_it_runs: bool = False


class _Server(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    package: str
    command: tuple[str, ...]
    factory: str = ""


class _Script(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    name: str
    pattern: str
    command: tuple[str, ...]
    port: int


class _Known(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    application: tuple[_Application, ...]
    server: tuple[_Server, ...]
    script: tuple[_Script, ...]


@cache
def _known() -> _Known:
    return msgspec.convert(tomllib.loads(Path(__file__).with_suffix(".toml").read_text("utf-8")), _Known)


class _Made(NamedTuple):
    """An application object: what it is of, its name in the module, and the line that makes it."""

    of: _Application
    name: str
    line: int


def application(context: PlanContext) -> Start | None:
    """Look for an application object in the usual places: at the top, in packages and usual folders, below `src`."""
    for path in _usual_places(context.folder):
        made = _made_in(path)
        if made is None or (made.of.unless_it_runs and guard(text_of(path, _LARGEST_PROGRAM))):
            continue
        source = Source(
            path.relative_to(context.root).as_posix(), made.line, clean(text_of(path).splitlines()[made.line - 1], 160)
        )
        inside_src = path.is_relative_to(context.folder / "src") and not (context.folder / "src/__init__.py").is_file()
        home = context.folder / "src" if inside_src else context.folder
        module = ".".join(path.relative_to(home).with_suffix("").parts).removesuffix(".__init__")
        server = _server(context)
        words = made.of.command or server.command
        found_by_itself = made.of.name == "flask" and made.name in ("app", "application", *_FACTORIES)
        target = module if found_by_itself else f"{module}:{made.name}"
        factory = server.factory if made.name in _FACTORIES else ""
        filled = [word.replace("{target}", target).replace("{factory}", factory) for word in words]
        run = RunPlan(
            name=made.of.name, command=tuple(word for word in filled if word), folder=context.folder, source=source,
            kind="server", port=made.of.port, may_move=True, environment={"PYTHONPATH": str(home)} if inside_src else {},
            rank=Rank.FRAMEWORK,
        )  # fmt: skip
        return Start(run, (*made.of.packages, server.package) if made.of.asgi else made.of.packages)
    return None


def _server(context: PlanContext) -> _Server:
    """Return the server of ASGI applications that the project declares."""
    servers = _known().server
    return next((each for each in servers if declares(context, each.package)), servers[0])


_USUAL_FOLDERS = ("app", "src", "api", "backend", "server")
"""Folders that many an application lies in, also where they are no packages."""


def _usual_places(folder: Path) -> list[Path]:
    packages = [
        init.parent
        for init in [*sorted(folder.glob("*/__init__.py")), *sorted(folder.glob("src/*/__init__.py"))]
        if init.parent.name not in SKIPPED_FOLDERS
    ]
    named = [folder / name for name in _USUAL_FOLDERS if not is_project(folder / name)]  # else a part of its own
    inside = [
        place / name
        for place in dict.fromkeys([*packages, *named])
        for name in (*_USUAL_FILES, "__init__.py", "core.py", "web.py")
    ]
    usual = [path for path in [*(folder / name for name in _USUAL_FILES), *inside] if path.is_file()]
    return list(dict.fromkeys([*usual, *_others(folder)]))


def _others(folder: Path) -> Iterator[Path]:
    """The files at the top of any other name, where they are few: an example of a manual has one."""
    found = [path for path in sorted(folder.glob("*.py")) if not re.match(r"_|test|conf|setup", path.name)]
    yield from found if len(found) <= _FEW else ()


_FEW = 6
_LARGEST_PROGRAM = 200_000


def _made_in(path: Path) -> _Made | None:
    """Return the application object that is made at the top of a module, or by its factory."""
    try:
        module = ast.parse(text_of(path, _LARGEST_PROGRAM))
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return None
    for node in module.body:
        targets = getattr(node, "targets", None) or [getattr(node, "target", None)]
        value = node.value if isinstance(node, (ast.Assign, ast.AnnAssign)) else None
        if value is not None and (made := _made_by(value)):
            for target in targets:
                if isinstance(target, ast.Name):
                    return _Made(made, target.id, node.lineno)
        if isinstance(node, ast.FunctionDef) and node.name in _FACTORIES:
            for inner in ast.walk(node):
                if isinstance(inner, ast.Call) and (made := _made_by(inner)):
                    return _Made(made, node.name, node.lineno)
    return None


def _made_by(value: ast.AST) -> _Application | None:
    if not isinstance(value, ast.Call):
        return None
    name = getattr(value.func, "id", None) or getattr(value.func, "attr", "")
    return next((each for each in _known().application if each.class_ == name), None)


_SCRIPT_FILES = (
    "streamlit_app.py", *_USUAL_FILES, "Home.py", "home.py", "dashboard.py", "notebook.py", "src/app.py", "src/main.py",
    "app/main.py", "app/app.py",
)  # fmt: skip


def script(context: PlanContext) -> Start | None:
    """Return the start of a file that a command of its framework serves ("Run your Streamlit app")."""
    named = [path for name in _SCRIPT_FILES if (path := context.folder / name).is_file()]
    for path in dict.fromkeys([*named, *_others(context.folder)]):
        text = text_of(path, _LARGEST_PROGRAM)
        for each in _known().script:
            found = re.search(each.pattern, text, re.MULTILINE)
            if found:
                file = path.relative_to(context.folder).as_posix()
                run = RunPlan(
                    name=each.name, command=tuple(word.replace("{file}", file) for word in each.command),
                    folder=context.folder, kind="server", port=each.port, may_move=True, rank=Rank.FRAMEWORK,
                    source=context.source(path, text.count("\n", 0, found.start()) + 1, clean(found[0], 160)),
                )  # fmt: skip
                return Start(run, (each.name,))
    return None
