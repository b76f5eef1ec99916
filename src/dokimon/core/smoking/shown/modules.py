"""Modules and packages of the project's own, in Python and Go."""

from __future__ import annotations

import re
import shlex
import sys
from collections.abc import Iterator
from itertools import islice
from pathlib import Path

from dokimon.core.expressions import expression
from dokimon.core.files import text_of
from dokimon.core.report.model import Diagnosis, Remedy
from dokimon.core.smoking.shown.failure import Failure
from dokimon.core.text import clean


def own_attribute(failure: Failure) -> Diagnosis | None:
    """An attribute that a module of Python's own, or of the checkout's, does not have: no other package would bring it."""
    for line in reversed(failure.lines):
        found = re.search(r"AttributeError: module '([\w.]+)' has no attribute '(\w+)'", line)
        if not found:
            continue
        top, where = found[1].partition(".")[0], failure.folder / found[1].replace(".", "/")
        if where.with_suffix(".py").is_file() or where.is_dir() or (failure.folder / "src" / top).is_dir():
            cause = f"{found[1]}, a module of this checkout, has no {found[2]}"
        elif top in sys.stdlib_module_names:
            cause = (
                f"{found[1]}, which Python brings, has no {found[2]}: is it spelt right, and is the Python new enough?"
            )
        else:
            return None
        return Diagnosis(name="attribute-missing", cause=cause, line=clean(line.strip(), 240))
    return None


_NO_MODULE = expression(r"(?:ModuleNotFoundError|ImportError): No module named '?(\w+)")
_MOST_PLACES = 2000


def settings_module(failure: Failure) -> Diagnosis | None:
    """The settings that manage.py names (Django, "django-admin and manage.py") and that the checkout does not have."""
    named = re.search(r"DJANGO_SETTINGS_MODULE['\"],\s*['\"]((\w+)[\w.]*)", text_of(failure.folder / "manage.py"))
    for line in failure.lines if named and not (failure.folder / named[2]).exists() else ():
        found = _NO_MODULE.search(line)
        if named and found and found[1] == named[2]:
            return Diagnosis(
                name="settings-module-missing",
                cause=f"manage.py names the settings {named[1]}, and the checkout has no {found[1]}",
                line=clean(line.strip(), 240),
                remedies=(
                    Remedy(f"bring the folder {found[1]}, or set DJANGO_SETTINGS_MODULE to the settings that are here"),
                ),
            )
    return None


def elsewhere(failure: Failure) -> Diagnosis | None:
    """A module that lies in another folder of the checkout than those that Python looks in (`sys.path`)."""
    for line in reversed(failure.lines):
        found = _NO_MODULE.search(line)
        if not found or (failure.folder / f"{found[1]}.py").exists() or (failure.folder / found[1]).is_dir():
            continue
        name = found[1]
        for folder in _source_folders(failure.folder):
            if (folder / f"{name}.py").is_file() or (folder / name / "__init__.py").is_file():
                where = folder.relative_to(failure.folder).as_posix()
                return Diagnosis(
                    name="module-elsewhere",
                    cause=f"the module {name} lies in {clean(where, 80)}, where Python does not look",
                    line=clean(line.strip(), 240),
                    remedies=(Remedy("let it look there", f"export PYTHONPATH={shlex.quote(where)}"),),
                )
    return None


_NOT_SOURCES = frozenset({"node_modules", "venv", "env", "site-packages", "build", "dist", "tests", "test", "docs"})


def _source_folders(folder: Path) -> Iterator[Path]:
    """The folders of a project, two levels deep, that may hold code of its own."""
    for level in ("*/", "*/*/"):
        for path in sorted(islice(folder.glob(level), _MOST_PLACES)):
            names = path.relative_to(folder).parts
            if not any(each.startswith(".") or each in _NOT_SOURCES for each in names):
                yield path


def own_go_package(failure: Failure) -> Diagnosis | None:
    """A package below the path of the module itself (go.mod, "module") is a folder of the checkout."""
    text = text_of(failure.folder / "go.mod")
    module = re.search(r"(?m)^module\s+\"?([\w./~-]+)", text)
    for line in failure.lines if module else ():
        found = re.search(r"(?:no required module provides package|package) ([\w./~-]+?)(?:;| is not in std|$)", line)
        if module and found and found[1].startswith(f"{module[1]}/"):
            where = found[1].removeprefix(f"{module[1]}/")
            if not (failure.folder / where).is_dir():
                return Diagnosis(
                    name="own-package-missing",
                    cause=f"{clean(where, 120)}, a package of this module itself, is not in the checkout",
                    line=clean(line.strip(), 240),
                    remedies=(
                        Remedy(
                            f"bring the folder {clean(where, 120)}: is it ignored by Git, or made by a step before?"
                        ),
                    ),
                )
    return None


def lone_script(failure: Failure) -> Diagnosis | None:
    """A file of a package that is started as a script knows no package (Python, `__main__`)."""
    line = failure.line_with("attempted relative import with no known parent package")
    for above in reversed(failure.lines) if line else ():
        found = re.match(r'\s*File "([^"]+)\.py", line \d+', above)
        path = Path(found[1]) if found else None
        if line and path and path.is_relative_to(failure.folder) and path.parent != failure.folder:
            where = path.relative_to(failure.folder).as_posix()
            return Diagnosis(
                name="relative-import",
                cause=f"{clean(where, 120)}.py is a file of a package, and is started as a lone script",
                line=clean(line, 240),
                remedies=(
                    Remedy(
                        "start it as a module, from this folder", f"python -m {shlex.quote(where.replace('/', '.'))}"
                    ),
                ),
            )
    return None
