"""Python: what starts the project. Its code is read as text (`ast`), never imported."""

from __future__ import annotations

import os
import re
from pathlib import Path

import msgspec

from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, PlanContext, PrepareStep, Rank, RunPlan
from dokimon.core.planning.planners.entry_points import entry_points
from dokimon.core.planning.planners.python_applications import application, script
from dokimon.core.planning.planners.python_environment import WantedPackages, declared_packages, environment_for
from dokimon.core.planning.planners.python_files import programs
from dokimon.core.planning.planners.python_start import SKIPPED_FOLDERS, Start, is_project
from dokimon.core.planning.planners.python_tasks import tasks
from dokimon.core.reading.manifest import ManifestFault, as_toml, open_manifest


def plan(context: PlanContext) -> Plan | None:
    """Return the plan for a Python project, or None when the folder is none."""
    declared = is_project(context.folder)
    scripts = programs(context, is_project=declared)
    applications = [found for look in (script, application) if (found := look(context))]
    if not declared and not scripts and not applications:
        return None
    commands = _commands(context)
    if any(way.run.name == _project_name(context) for way in commands):
        # An application inside a package that has a command of its own name is what that command starts.
        applications = [way for way in applications if (context.root / way.run.source.file).parent == context.folder]
    ways = [*_django(context), *applications, *commands, *_packages(context), *tasks(context), *scripts]
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


def _django(context: PlanContext) -> list[Start]:
    """`manage.py`, here or in a folder below; those of tests are passed over."""
    found = []
    below = sorted(context.folder.glob("*/manage.py"))
    for path in [context.folder / "manage.py", *below]:
        if not path.is_file() or "django" not in text_of(path) or path.parent.name.lower() in SKIPPED_FOLDERS:
            continue
        if re.search(r"DJANGO_SETTINGS_MODULE['\"]\s*,\s*['\"](?:[\w.]+\.)?tests?\w*\.", text_of(path)):
            continue  # it runs the tests of a library
        command = ("{python}", "manage.py", "runserver", "127.0.0.1:{port}")
        run = RunPlan(
            name="django", command=command, folder=path.parent, source=context.source(path), kind="server", port=8000,
            may_move=True, rank=Rank.FRAMEWORK,
        )  # fmt: skip
        found.append(Start(run, (_django_of_settings(context),)))
    return found[:1]


def _django_of_settings(context: PlanContext) -> str:
    """`startproject` writes into the settings which Django made them: the line of releases to install."""
    for path in sorted(context.folder.glob("*/settings.py")):
        if release := re.search(r"using Django (\d+\.\d+)", text_of(path)):
            return f"Django=={release[1]}.*"
    return "Django"


def _commands(context: PlanContext) -> list[Start]:
    """The commands that installing the project makes (packaging.python.org, "Entry points specification")."""
    found: dict[str, Start] = {}
    for name, source in entry_points(context):
        run = RunPlan(
            name=name, command=(name,), folder=context.folder, source=source, rank=Rank.COMMAND,
        )  # fmt: skip
        found.setdefault(name, Start(run, installed=True))
    for path in sorted([*context.folder.glob("bin/*"), *context.folder.glob("scripts/*")]):
        if _is_installed(context, path):
            where = path.relative_to(context.folder).as_posix()
            run = RunPlan(
                name=path.name, command=("{python}", where), folder=context.folder, source=context.source(path),
                rank=Rank.COMMAND,
            )  # fmt: skip
            found.setdefault(path.name, Start(run, installed=True))
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


def _packages(context: PlanContext) -> list[Start]:
    """`python -m PACKAGE`: the package with a `__main__.py`; where there are several, the one named as the project."""
    found = [*sorted(context.folder.glob("*/__main__.py")), *sorted(context.folder.glob("src/*/__main__.py"))]
    found = [path for path in found if path.parent.name not in SKIPPED_FOLDERS and path.parent.name.isidentifier()]
    named = [path for path in found if path.parent.name == _project_name(context)]
    starts = []
    for path in named[:1] or found:
        environment = {"PYTHONPATH": str(path.parent.parent)} if path.parent.parent != context.folder else {}
        name = path.parent.name
        run = RunPlan(
            name=name, command=("{python}", "-m", name), folder=context.folder, source=context.source(path),
            environment=environment, rank=Rank.COMMAND,
        )  # fmt: skip
        starts.append(Start(run))
    return starts


def _project_name(context: PlanContext) -> str | None:
    try:
        project = as_toml(open_manifest(context.folder / "pyproject.toml", context.root)).get("project")
    except ManifestFault:
        return None
    name = project.get("name") if isinstance(project, dict) else None
    return re.sub(r"[-.]+", "_", name).lower() if isinstance(name, str) else None
