"""Python: an application object of a web framework, from which its server is started. Read as text, never imported."""

from __future__ import annotations

import ast
import re
from pathlib import Path

from dokimon.core.files import text_of
from dokimon.core.planning.plan import PlanContext, Rank, RunPlan
from dokimon.core.planning.planners.python_start import SKIPPED_FOLDERS, Start, is_project
from dokimon.core.source import Source
from dokimon.core.text import clean

_USUAL_FILES = ("app.py", "wsgi.py", "main.py", "asgi.py", "application.py", "server.py", "api.py", "run.py")

_FRAMEWORKS = {
    "Flask": "flask",
    "FastAPI": "fastapi",
    "Starlette": "starlette",
    "Quart": "quart",
    "Litestar": "litestar",
}
"""The classes whose instances are applications, and the packages that bring them."""


def application(context: PlanContext) -> Start | None:
    """Look for an application object in the usual places: at the top, in packages and usual folders, below `src`."""
    for path in _usual_places(context.folder):
        found = _application_in(path)
        if not found:
            continue
        class_name, name, line = found
        source = Source(
            path.relative_to(context.root).as_posix(), line, clean(text_of(path).splitlines()[line - 1], 160)
        )
        package = _FRAMEWORKS[class_name]
        inside_src = path.is_relative_to(context.folder / "src") and not (context.folder / "src/__init__.py").is_file()
        home = context.folder / "src" if inside_src else context.folder
        module = ".".join(path.relative_to(home).with_suffix("").parts).removesuffix(".__init__")
        environment = {"PYTHONPATH": str(home)} if inside_src else {}
        if class_name == "Flask":
            target = module if name in ("app", "application", "create_app", "make_app") else f"{module}:{name}"
            command = ("{python}", "-m", "flask", "--app", target, "run", "--port", "{port}")
            port = 5000
        else:
            factory = ("--factory",) if name in ("create_app", "make_app") else ()
            command = ("{python}", "-m", "uvicorn", f"{module}:{name}", *factory, "--port", "{port}")
            port = 8000
        run = RunPlan(
            name=package, command=command, folder=context.folder, source=source,
            kind="server", port=port, may_move=True, environment=environment, rank=Rank.FRAMEWORK,
        )  # fmt: skip
        return Start(run, (package,) if class_name == "Flask" else (package, "uvicorn"))
    return None


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
    return [path for path in [*(folder / name for name in _USUAL_FILES), *inside] if path.is_file()]


_LARGEST_PROGRAM = 200_000


def _application_in(path: Path) -> tuple[str, str, int] | None:
    """Return the class, the name and the line of an application made at the top of a module, or of its factory."""
    try:
        module = ast.parse(text_of(path, _LARGEST_PROGRAM))
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return None
    for node in module.body:
        targets = getattr(node, "targets", None) or [getattr(node, "target", None)]
        value = node.value if isinstance(node, (ast.Assign, ast.AnnAssign)) else None
        if value is not None and (framework := _class_called(value)):
            for target in targets:
                if isinstance(target, ast.Name):
                    return framework, target.id, node.lineno
        if isinstance(node, ast.FunctionDef) and node.name in ("create_app", "make_app"):
            for inner in ast.walk(node):
                if isinstance(inner, ast.Call) and (framework := _class_called(inner)):
                    return framework, node.name, node.lineno
    return None


def _class_called(value: ast.AST) -> str | None:
    if not isinstance(value, ast.Call):
        return None
    name = getattr(value.func, "id", None) or getattr(value.func, "attr", "")
    return name if name in _FRAMEWORKS else None


def streamlit(context: PlanContext) -> Start | None:
    """A file of Streamlit's is started by its own command ("Run your Streamlit app"), which serves it."""
    for name in ("streamlit_app.py", *_USUAL_FILES, "Home.py", "home.py", "dashboard.py", "src/app.py", "src/main.py",
            "app/main.py", "app/app.py"):  # fmt: skip
        path = context.folder / name
        found = re.search(r"^(?:import streamlit\b|from streamlit\b).*", text_of(path, _LARGEST_PROGRAM), re.MULTILINE)
        if found:
            options = ("--server.port", "{port}", "--server.headless", "true", "--browser.gatherUsageStats", "false")
            run = RunPlan(
                name="streamlit", command=("{python}", "-m", "streamlit", "run", name, *options), folder=context.folder,
                source=context.source(path, text_of(path).count("\n", 0, found.start()) + 1, found[0]), kind="server",
                port=8501, may_move=True, rank=Rank.FRAMEWORK,
            )  # fmt: skip
            return Start(run, ("streamlit",))
    return None
