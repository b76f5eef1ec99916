"""Python: files that are programs by themselves."""

from __future__ import annotations

import re

from dokimon.core.files import text_of
from dokimon.core.planning.plan import PlanContext, RunPlan
from dokimon.core.planning.planners.python_start import Start
from dokimon.core.text import clean


def programs(context: PlanContext, *, is_project: bool) -> list[Start]:
    """Files of usual names that say what to do when they are run; else the one program of the folder."""
    folder = context.folder
    found = [folder / name for name in _USUAL_SCRIPTS if (folder / name).is_file()]
    found = found or [folder / name for name in _BELOW if (folder / name).is_file()]
    setup = text_of(folder / "setup.py")
    files = [
        path
        for path in sorted(folder.glob("*.py"))
        if (path.name not in _NO_PROGRAMS or (path.name == "wsgi.py" and guard(text_of(path))))
        and not re.match(r"_|test|check[_-]", path.name)
        and not re.search(rf"py_modules\s*=\s*\[[^\]]*['\"]{re.escape(path.stem)}['\"]", setup)
    ]
    others = [path for path in files if guard(text_of(path))]
    lone = next((each for each in (others, files) if len(each) == 1), [])
    # In a package, or in a project of another language, a script beside it helps to build it.
    if any(folder.glob("*/__init__.py")) or any((folder / name).is_file() for name in _OTHERS):
        lone = []
    guarded = [path for path in found if guard(text_of(path))]
    starts = []
    for path in dict.fromkeys([*guarded, *lone, *(() if is_project else found)]):
        text = text_of(path)
        line = guard(text) or 1
        source = context.source(path, line, clean((text.splitlines() or [""])[line - 1], 160))
        run = RunPlan(
            name=path.stem, command=("{python}", path.relative_to(folder).as_posix()), folder=folder, source=source
        )
        starts.append(Start(run))
    return starts


_USUAL_SCRIPTS = ("main.py", "app.py", "run.py", "server.py", "cli.py", "bot.py", "tool.py")
_BELOW = tuple(f"{folder}/{name}" for folder in ("src", "app") for name in ("main.py", "app.py", "run.py", "server.py"))
_NO_PROGRAMS = frozenset({
    "setup.py", "conftest.py", "noxfile.py", "tasks.py", "fabfile.py", "__init__.py", "manage.py", "wsgi.py", "asgi.py",
    "settings.py", "config.py", "versioneer.py", "dodo.py", "__main__.py", "gunicorn_config.py", "conanfile.py",
    "build.py", "conf.py", "hatch_build.py", "configure.py", "release.py", "pelicanconf.py", "publishconf.py", "rxconfig.py",
})  # fmt: skip
_OTHERS = ("CMakeLists.txt", "meson.build", "configure.ac", "configure", "package.json", "go.mod", "Cargo.toml", "pom.xml",
    "build.gradle", "build.gradle.kts", "composer.json", "Gemfile", "Makefile.am", "rebar.config", "mix.exs", "build.xml",
    "dune-project", "stack.yaml")  # fmt: skip


def guard(text: str) -> int | None:
    """Return the line on which a program says what it does when it is run, or None."""
    found = re.search(r"^if\s+__name__\s*==\s*['\"]__main__['\"]", text, re.MULTILINE)
    return text.count("\n", 0, found.start()) + 1 if found else None
