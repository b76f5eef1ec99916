"""Qt projects that qmake builds (doc.qt.io, "qmake Project Files")."""

from __future__ import annotations

import re
from pathlib import Path

from dokimon.core.expressions import expression
from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, PlanContext, PrepareStep, Rank, RunPlan
from dokimon.core.planning.planners.freshness import older_than
from dokimon.core.planning.planners.native import BESIDE

_OF_QMAKE = expression(r"^[ \t]*(?:TEMPLATE|SOURCES|SUBDIRS|HEADERS)\s*\+?=", re.MULTILINE)
"""What sets a project file of qmake apart from another that ends in `.pro`."""

_OTHER_BUILDS = ("CMakeLists.txt", "meson.build", "configure.ac")


def plan(context: PlanContext) -> Plan | None:
    """Return the plan for a folder with a project file of qmake, or None for any other."""
    folder = context.folder
    tops = [path for path in sorted(folder.glob("*.pro")) if _OF_QMAKE.search(text_of(path))]
    if not tops or any((folder / name).is_file() for name in _OTHER_BUILDS):
        return None
    top = next((path for path in tops if path.stem.lower() == folder.name.lower()), tops[0])
    programs = [found for path in [top, *_below(folder, text_of(top))] if (found := _program(path))]
    if not programs:
        return Plan()
    made = programs[0][1].parent / programs[0][0]
    source = context.source(top)
    steps = (
        PrepareStep(
            title="configure",
            command=("qmake", top.name),
            folder=folder,
            source=source,
            needed=older_than(folder / "Makefile", [top]),
            makes=(folder / "Makefile",),
        ),
        PrepareStep(
            title="build", command=("make",), folder=folder, source=source, needed=older_than(made, [made.parent])
        ),
    )
    runs = tuple(
        RunPlan(
            name=Path(name).name,
            command=(f"./{(path.parent / name).relative_to(folder).as_posix()}",),
            folder=folder,
            source=context.source(path, line),
            rank=Rank.COMMAND,
        )
        for name, path, line in programs
        if (path.parent / name).is_relative_to(folder)
    )
    return Plan(prepare=steps, runs=runs)


def _below(folder: Path, text: str) -> list[Path]:
    """The project files of the folders that a project of several names (SUBDIRS)."""
    named = re.search(r"^[ \t]*SUBDIRS\s*\+?=\s*((?:[^\n]*\\\n)*[^\n]*)", text, re.MULTILINE)
    words = re.findall(r"[\w./+-]+", named[1]) if named else []
    found = []
    for word in words:
        where = folder / word
        paths = [where] if where.suffix == ".pro" and where.is_file() else sorted(where.glob("*.pro"))
        found += [path for path in paths if not BESIDE.search(word)]
    return found


def _program(path: Path) -> tuple[str, Path, int] | None:
    """Return the program that a project file makes, the file, and the line that names it; an application is the default."""
    text = text_of(path)
    template = re.search(r"^[ \t]*TEMPLATE\s*=\s*(\w+)", text, re.MULTILINE)
    if template and template[1] != "app":
        return None
    target = re.search(r"^[ \t]*TARGET\s*=\s*\"?([\w./+-]+)", text, re.MULTILINE)
    place = re.search(r"^[ \t]*DESTDIR\s*=\s*\"?(?:\$\$(?:PWD|OUT_PWD)/)?([\w./-]+)", text, re.MULTILINE)
    name = (target[1] if target else path.stem).removeprefix("./")
    if BESIDE.search(name):
        return None
    line = text.count("\n", 0, target.start(1)) + 1 if target else 1
    return (f"{place[1].rstrip('/')}/{name}" if place else name).removeprefix("./"), path, line
