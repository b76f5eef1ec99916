"""Tasks by name (make, just, task, mise) and scripts of usual names: how people start a project by hand."""

from __future__ import annotations

import os
import re

from dokimon.core.expressions import expression
from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, PlanContext, Rank, RunPlan
from dokimon.core.planning.planners.names import folder_names

_NAMES = ("dev", "run", "serve", "start", "up", "server")
"""Tasks that start a project, by custom, in the order of preference."""

_MAKEFILES = ("GNUmakefile", "makefile", "Makefile")
_FILES: tuple[tuple[tuple[str, ...], str, str, str], ...] = (
    (_MAKEFILES, "make", r"^({})\s*:(?![:=])", r"\n(?=[^\s#])"),
    (("justfile", "Justfile", ".justfile"), "just", r"^@?({})(?:\s+[^:\n]*)?:(?!=)", r"\n(?=[^\s#])"),
    (("Taskfile.yml", "Taskfile.yaml", "taskfile.yml"), "task", r"^  ['\"]?({})['\"]?:\s*(?:$|\{{|\[)", r"\n(?=  \S)"),
    (
        ("mise.toml", ".mise.toml", "mise/config.toml", ".config/mise.toml"),
        "mise run",
        r"^\[tasks\.['\"]?({})['\"]?\][ \t]*$|(?<=^\[tasks\]\n)(?:[^\[\n][^\n]*\n|\n)*?({})[ \t]*=",
        r"\n(?=\[)",
    ),
)
"""Files of tasks: their names, the command, a pattern for a task in braces, and what ends it."""

_SCRIPTS = tuple(
    f"{folder}{name}.sh" for folder in ("", "bin/", "scripts/") for name in ("dev", "run", "start", "serve")
)
_ELSEWHERE = expression(r"\b(?:docker|podman|docker-compose|kubectl|helm|vagrant|ansible-playbook)\b")
"""Commands that start the project in another place than here."""


def plan(context: PlanContext) -> Plan | None:
    """Return the tasks and scripts that start the project; those that do it in a container are proposals."""
    runs = [*_tasks(context), *_scripts(context), *_own_script(context)]
    return Plan(runs=tuple(runs)) if runs else None


def _tasks(context: PlanContext) -> list[RunPlan]:
    found = []
    for names, tool, pattern, ends in _FILES:
        path = next((context.folder / name for name in names if (context.folder / name).is_file()), None)
        if path is None:
            continue
        text = text_of(path)
        for name in _NAMES:
            match = re.search(pattern.format(name, name), text, re.MULTILINE)
            if match is None:
                continue
            body = re.split(ends, text[match.end() :], maxsplit=1)[0]
            line = text.count("\n", 0, match.end()) + 1
            rank = Rank.PROPOSAL if _ELSEWHERE.search(body) else Rank.TASK
            source = context.source(path, line, match[0].strip().rpartition("\n")[2])
            found.append(
                RunPlan(
                    name=f"{tool} {name}",
                    command=(*tool.split(), name),
                    folder=context.folder,
                    source=source,
                    rank=rank,
                )
            )
    return found


def _scripts(context: PlanContext) -> list[RunPlan]:
    found = []
    for name in _SCRIPTS:
        path = context.folder / name
        if not path.is_file():
            continue
        rank = Rank.PROPOSAL if _ELSEWHERE.search(text_of(path)) else Rank.FILE
        shell = "bash" if re.match(r"#!.*\bbash\b", text_of(path)) else "sh"
        found.append(
            RunPlan(name=name, command=(shell, name), folder=context.folder, source=context.source(path), rank=rank)
        )
    return found


def _own_script(context: PlanContext) -> list[RunPlan]:
    """A script that is called as the project: such a project is that script."""
    folder = context.folder
    names = folder_names(folder)
    for path in [*sorted(folder.glob("*")), *sorted(folder.glob("bin/*"))]:
        if (path.name.lower() not in names and path.stem.lower() not in names) or not path.is_file():
            continue
        interpreter = re.match(r"#!\s*\S*?(?:/env\s+(?:-\S+\s+)*)?([\w.-]+)\s*(?:-\S*\s*)*\n", text_of(path, 4000))
        if interpreter is None:
            continue
        where = path.relative_to(folder).as_posix()
        command = (f"./{where}",) if os.access(path, os.X_OK) else (interpreter[1], where)
        return [RunPlan(name=path.stem, command=command, folder=folder, source=context.source(path))]
    return []
