"""Python: what starts the project. Its code is read as text (`ast`), never imported."""

from __future__ import annotations

import ast
import os
import re
from pathlib import Path
from typing import NamedTuple

import msgspec

from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, PlanContext, RunPlan
from dokimon.core.planning.planners.python_environment import WantedPackages, declared_packages, environment_for
from dokimon.core.reading.manifest import ManifestFault, as_toml, open_manifest
from dokimon.core.source import Source
from dokimon.core.text import clean

_MANIFESTS = ("pyproject.toml", "requirements.txt", "setup.py", "setup.cfg", "manage.py", "Pipfile")
_USUAL_FILES = ("app.py", "wsgi.py", "main.py", "asgi.py", "application.py", "server.py", "api.py", "run.py")
_SKIPPED_FOLDERS = frozenset({"tests", "test", "docs", "examples", "node_modules", "build", "dist", "env", "venv"})

_FRAMEWORKS = {
    "Flask": "flask",
    "FastAPI": "fastapi",
    "Starlette": "starlette",
    "Quart": "quart",
    "Litestar": "litestar",
}
"""The classes whose instances are applications, and the packages that bring them."""


class _Start(NamedTuple):
    """How to start, the source of that, and the packages needed where the project declares none."""

    run: RunPlan
    packages: tuple[str, ...] = ()


def plan(context: PlanContext) -> Plan | None:
    """Return the plan for a Python project, or None when the folder is none."""
    if not any((context.folder / name).is_file() for name in _MANIFESTS) and not _application(context):
        return None
    start = _django(context) or _application(context) or _package(context) or _script(context)
    wanted = declared_packages(context)
    if not wanted and start and start.packages:
        wanted = [WantedPackages(arguments=start.packages, requirements=start.packages, source=start.run.source)]
    environment, steps = environment_for(context, wanted)
    words = {"python": environment.python}
    variables = {
        **environment.variables(context.environment.get("PATH", os.defpath)),
        "PYTHONUNBUFFERED": "1",
    }
    if start is None:
        return Plan(prepare=tuple(steps), runs=(), words=words, environment=variables)
    run = msgspec.structs.replace(
        start.run,
        words=words,
        environment={**variables, **start.run.environment},
    )
    return Plan(prepare=tuple(steps), runs=(run,), words=words, environment=variables)


def _django(context: PlanContext) -> _Start | None:
    path = context.folder / "manage.py"
    if not path.is_file() or "django" not in text_of(path):
        return None
    run = RunPlan(
        name="django",
        command=("{python}", "manage.py", "runserver", "127.0.0.1:{port}"),
        folder=context.folder,
        source=context.source(path),
        kind="server",
        port=8000,
        may_move=True,
    )
    return _Start(run, (_django_of_settings(context),))


def _django_of_settings(context: PlanContext) -> str:
    """`startproject` writes into the settings which Django made them: the line of releases to install."""
    for path in sorted(context.folder.glob("*/settings.py")):
        if release := re.search(r"using Django (\d+\.\d+)", text_of(path)):
            return f"Django=={release[1]}.*"
    return "Django"


def _application(context: PlanContext) -> _Start | None:
    """Look for an application object in the usual places: at the top, in packages, in packages below `src`."""
    for path in _usual_places(context.folder):
        found = _application_in(path)
        if not found:
            continue
        class_name, name, line = found
        source = Source(
            path.relative_to(context.root).as_posix(), line, clean(text_of(path).splitlines()[line - 1], 160)
        )
        package = _FRAMEWORKS[class_name]
        inside_src = path.is_relative_to(context.folder / "src")
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
            kind="server", port=port, may_move=True, environment=environment,
        )  # fmt: skip
        return _Start(run, (package,) if class_name == "Flask" else (package, "uvicorn"))
    return None


def _usual_places(folder: Path) -> list[Path]:
    packages = [
        init.parent
        for init in [*sorted(folder.glob("*/__init__.py")), *sorted(folder.glob("src/*/__init__.py"))]
        if init.parent.name not in _SKIPPED_FOLDERS
    ]
    inside = [package / name for package in packages for name in (*_USUAL_FILES, "__init__.py")]
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


def _package(context: PlanContext) -> _Start | None:
    """`python -m PACKAGE`: the package with a `__main__.py`; where there are several, the one named as the project."""
    found = [*sorted(context.folder.glob("*/__main__.py")), *sorted(context.folder.glob("src/*/__main__.py"))]
    found = [path for path in found if path.parent.name not in _SKIPPED_FOLDERS and path.parent.name.isidentifier()]
    named = [path for path in found if path.parent.name == _project_name(context)]
    chosen = named[:1] or (found if len(found) == 1 else [])
    if not chosen:
        return None
    path = chosen[0]
    environment = {"PYTHONPATH": str(path.parent.parent)} if path.parent.parent != context.folder else {}
    name = path.parent.name
    return _Start(
        RunPlan(
            name=name,
            command=("{python}", "-m", name),
            folder=context.folder,
            source=context.source(path),
            environment=environment,
        )
    )


def _project_name(context: PlanContext) -> str | None:
    try:
        project = as_toml(open_manifest(context.folder / "pyproject.toml", context.root)).get("project")
    except ManifestFault:
        return None
    name = project.get("name") if isinstance(project, dict) else None
    return re.sub(r"[-.]+", "_", name).lower() if isinstance(name, str) else None


def _script(context: PlanContext) -> _Start | None:
    """A file of a usual name that says what to do when it is run."""
    for name in ("main.py", "app.py", "run.py", "server.py"):
        path = context.folder / name
        text = text_of(path) if path.is_file() else ""
        if guard := re.search(r"^if\s+__name__\s*==\s*['\"]__main__['\"]", text, re.MULTILINE):
            line = text.count("\n", 0, guard.start()) + 1
            source = context.source(path, line, clean(text.splitlines()[line - 1], 160))
            return _Start(RunPlan(name=path.stem, command=("{python}", name), folder=context.folder, source=source))
    return None
