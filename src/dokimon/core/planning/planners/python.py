"""Python: what starts the project. Its code is read as text (`ast`), never imported."""

from __future__ import annotations

import ast
import os
import re
from pathlib import Path
from typing import NamedTuple

import msgspec

from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, PlanContext, PrepareStep, Rank, RunPlan
from dokimon.core.planning.planners.entry_points import entry_points
from dokimon.core.planning.planners.python_environment import WantedPackages, declared_packages, environment_for
from dokimon.core.reading.manifest import ManifestFault, as_toml, open_manifest
from dokimon.core.source import Source
from dokimon.core.text import clean

_MANIFESTS = ("pyproject.toml", "requirements.txt", "setup.py", "setup.cfg", "manage.py", "Pipfile", "environment.yml")
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
    """How to start, the packages needed where the project declares none, and whether the project itself is installed."""

    run: RunPlan
    packages: tuple[str, ...] = ()
    installed: bool = False


def plan(context: PlanContext) -> Plan | None:
    """Return the plan for a Python project, or None when the folder is none."""
    is_project = any((context.folder / name).is_file() for name in _MANIFESTS)
    scripts = _scripts(context, is_project=is_project)
    if not is_project and not scripts and not _application(context):
        return None
    commands = _commands(context)
    applications = _applications(context)
    if any(way.run.name == _project_name(context) for way in commands):
        # An application inside a package that has a command of its own name is what that command starts.
        applications = [way for way in applications if (context.root / way.run.source.file).parent == context.folder]
    ways = [*_django(context), *applications, *commands, *_packages(context), *scripts]
    wanted = declared_packages(context, installs=any(way.installed for way in ways))
    first = min(ways, key=lambda way: way.run.rank, default=None)
    if not wanted and first and first.packages:
        wanted = [WantedPackages(arguments=first.packages, requirements=first.packages, source=first.run.source)]
    environment, steps = environment_for(context, wanted)
    words = {"python": environment.python}
    variables = {
        **environment.variables(context.environment.get("PATH", os.defpath)),
        "PYTHONUNBUFFERED": "1",
    }
    runs = tuple(
        msgspec.structs.replace(way.run, words=words, environment={**variables, **way.run.environment}) for way in ways
    )
    migrate = _migration(context, first.run) if first else None
    if migrate:
        steps = [*steps, msgspec.structs.replace(migrate, words=words, environment=variables)]
    return Plan(prepare=tuple(steps), runs=runs, words=words, environment=variables)


def _migration(context: PlanContext, run: RunPlan) -> PrepareStep | None:
    """Django's tables, where its database is a local file that is not there yet; no other database is ever touched."""
    if run.name != "django":
        return None
    for settings in sorted(run.folder.glob("*/settings.py")):
        named = re.search(r"django\.db\.backends\.sqlite3", text_of(settings))
        file = re.search(r"['\"]NAME['\"]\s*:\s*.*?['\"]([\w.-]+\.(?:sqlite3?|db))['\"]", text_of(settings))
        if named and file:
            database = run.folder / file[1]
            return PrepareStep(
                title="make the tables of the database",
                command=("{python}", "manage.py", "migrate", "--noinput"),
                folder=run.folder,
                source=context.source(settings, text_of(settings).count("\n", 0, named.start()) + 1),
                needed=None if database.exists() else f"there is no {file[1]} yet",
                reason=f"{file[1]} is there",
            )
    return None


def _django(context: PlanContext) -> list[_Start]:
    """`manage.py`, here or in a folder below; those of tests are passed over."""
    found = []
    below = sorted(context.folder.glob("*/manage.py"))
    for path in [context.folder / "manage.py", *below]:
        if not path.is_file() or "django" not in text_of(path) or path.parent.name.lower() in _SKIPPED_FOLDERS:
            continue
        if re.search(r"DJANGO_SETTINGS_MODULE['\"]\s*,\s*['\"](?:[\w.]+\.)?tests?\w*\.", text_of(path)):
            continue  # it runs the tests of a library
        command = ("{python}", "manage.py", "runserver", "127.0.0.1:{port}")
        run = RunPlan(
            name="django", command=command, folder=path.parent, source=context.source(path), kind="server", port=8000,
            may_move=True, rank=Rank.FRAMEWORK,
        )  # fmt: skip
        found.append(_Start(run, (_django_of_settings(context),)))
    return found[:1]


def _django_of_settings(context: PlanContext) -> str:
    """`startproject` writes into the settings which Django made them: the line of releases to install."""
    for path in sorted(context.folder.glob("*/settings.py")):
        if release := re.search(r"using Django (\d+\.\d+)", text_of(path)):
            return f"Django=={release[1]}.*"
    return "Django"


def _applications(context: PlanContext) -> list[_Start]:
    found = _application(context)
    return [found] if found else []


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
            kind="server", port=port, may_move=True, environment=environment, rank=Rank.FRAMEWORK,
        )  # fmt: skip
        return _Start(run, (package,) if class_name == "Flask" else (package, "uvicorn"))
    return None


def _usual_places(folder: Path) -> list[Path]:
    packages = [
        init.parent
        for init in [*sorted(folder.glob("*/__init__.py")), *sorted(folder.glob("src/*/__init__.py"))]
        if init.parent.name not in _SKIPPED_FOLDERS
    ]
    inside = [package / name for package in packages for name in (*_USUAL_FILES, "__init__.py", "core.py", "web.py")]
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


def _commands(context: PlanContext) -> list[_Start]:
    """The commands that installing the project makes (packaging.python.org, "Entry points specification")."""
    found: dict[str, _Start] = {}
    for name, source in entry_points(context):
        run = RunPlan(
            name=name, command=(name,), folder=context.folder, source=source, rank=Rank.COMMAND,
        )  # fmt: skip
        found.setdefault(name, _Start(run, installed=True))
    for path in sorted([*context.folder.glob("bin/*"), *context.folder.glob("scripts/*")]):
        if _is_installed(context, path):
            where = path.relative_to(context.folder).as_posix()
            run = RunPlan(
                name=path.name, command=("{python}", where), folder=context.folder, source=context.source(path),
                rank=Rank.COMMAND,
            )  # fmt: skip
            found.setdefault(path.name, _Start(run, installed=True))
    own = (_project_name(context) or "").replace("_", "-")
    return sorted(
        found.values(),
        key=lambda start: (start.run.name.replace("_", "-") != own, not re.search(r"^run|serve", start.run.name)),
    )


def _is_installed(context: PlanContext, path: Path) -> bool:
    """Whether a file is one of the scripts that `setup.py` installs (setuptools, "scripts")."""
    if not path.is_file() or not re.match(r"#!.*\bpython", text_of(path, 200)):
        return False
    named = re.search(r"\bscripts\s*=\s*(.{0,2000})", text_of(context.folder / "setup.py"), re.DOTALL)
    return named is not None and (path.name in named[1] or f"{path.parent.name}/*" in named[1])


def _packages(context: PlanContext) -> list[_Start]:
    """`python -m PACKAGE`: the package with a `__main__.py`; where there are several, the one named as the project."""
    found = [*sorted(context.folder.glob("*/__main__.py")), *sorted(context.folder.glob("src/*/__main__.py"))]
    found = [path for path in found if path.parent.name not in _SKIPPED_FOLDERS and path.parent.name.isidentifier()]
    named = [path for path in found if path.parent.name == _project_name(context)]
    starts = []
    for path in named[:1] or found:
        environment = {"PYTHONPATH": str(path.parent.parent)} if path.parent.parent != context.folder else {}
        name = path.parent.name
        run = RunPlan(
            name=name, command=("{python}", "-m", name), folder=context.folder, source=context.source(path),
            environment=environment, rank=Rank.COMMAND,
        )  # fmt: skip
        starts.append(_Start(run))
    return starts


def _project_name(context: PlanContext) -> str | None:
    try:
        project = as_toml(open_manifest(context.folder / "pyproject.toml", context.root)).get("project")
    except ManifestFault:
        return None
    name = project.get("name") if isinstance(project, dict) else None
    return re.sub(r"[-.]+", "_", name).lower() if isinstance(name, str) else None


def _scripts(context: PlanContext, *, is_project: bool) -> list[_Start]:
    """Files of usual names that say what to do when they are run; else the one program of the folder."""
    folder = context.folder
    found = [folder / name for name in _USUAL_SCRIPTS if (folder / name).is_file()]
    setup = text_of(folder / "setup.py")
    programs = [
        path
        for path in sorted(folder.glob("*.py"))
        if path.name not in _NO_PROGRAMS
        and not re.match(r"_|test|check[_-]", path.name)
        and not re.search(rf"py_modules\s*=\s*\[[^\]]*['\"]{re.escape(path.stem)}['\"]", setup)
    ]
    others = [path for path in programs if _guard(text_of(path))]
    lone = next((each for each in (others, programs) if len(each) == 1), [])
    # In a package, or in a project of another language, a script beside it helps to build it.
    if any(folder.glob("*/__init__.py")) or any((folder / name).is_file() for name in _OTHERS):
        lone = []
    guarded = [path for path in found if _guard(text_of(path))]
    starts = []
    for path in dict.fromkeys([*guarded, *lone, *(() if is_project else found)]):
        text = text_of(path)
        line = _guard(text) or 1
        source = context.source(path, line, clean((text.splitlines() or [""])[line - 1], 160))
        run = RunPlan(name=path.stem, command=("{python}", path.name), folder=folder, source=source)
        starts.append(_Start(run))
    return starts


_USUAL_SCRIPTS = ("main.py", "app.py", "run.py", "server.py", "cli.py", "bot.py", "tool.py")
_NO_PROGRAMS = frozenset({
    "setup.py", "conftest.py", "noxfile.py", "tasks.py", "fabfile.py", "__init__.py", "manage.py", "wsgi.py", "asgi.py",
    "settings.py", "config.py", "versioneer.py", "dodo.py", "__main__.py", "gunicorn_config.py", "conanfile.py",
    "build.py", "conf.py", "hatch_build.py", "configure.py", "release.py",
})  # fmt: skip
_OTHERS = ("CMakeLists.txt", "meson.build", "configure.ac", "configure", "package.json", "go.mod", "Cargo.toml", "pom.xml",
    "build.gradle", "build.gradle.kts", "composer.json", "Gemfile", "Makefile.am", "rebar.config", "mix.exs", "build.xml",
    "dune-project", "stack.yaml")  # fmt: skip


def _guard(text: str) -> int | None:
    """Return the line on which a program says what it does when it is run, or None."""
    found = re.search(r"^if\s+__name__\s*==\s*['\"]__main__['\"]", text, re.MULTILINE)
    return text.count("\n", 0, found.start()) + 1 if found else None
