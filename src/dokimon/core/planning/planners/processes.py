"""A Procfile: the processes of an application, one a line (`web: gunicorn app:app`)."""

from __future__ import annotations

import re

from dokimon.core.expressions import expression
from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, PlanContext, Rank, RunPlan

_LINE = expression(r"^([A-Za-z][\w-]*)[ \t]*:[ \t]*(\S.*)$", re.MULTILINE)


def plan(context: PlanContext) -> Plan | None:
    """Return the processes of the Procfile, the one for the web first; `release` is no process to keep running."""
    for name in ("Procfile.dev", "Procfile"):
        path = context.folder / name
        if path.is_file():
            break
    else:
        return None
    text = text_of(path)
    found = [(match, text.count("\n", 0, match.start()) + 1) for match in _LINE.finditer(text)]
    found = [each for each in found if each[0][1] != "release"]
    found.sort(key=lambda each: each[0][1] != "web")
    runs = tuple(
        RunPlan(
            name=match[1],
            command=match[2],
            folder=context.folder,
            source=context.source(path, line, match[0]),
            kind="server" if match[1] == "web" else None,
            port="any" if "$PORT" in match[2] or "${PORT" in match[2] else None,
            rank=_rank(context, match, alone=len(found) == 1),
        )
        for match, line in found
    )
    return Plan(runs=runs) if runs else None


def _rank(context: PlanContext, process: re.Match[str], *, alone: bool) -> Rank:
    """One process of several is no way to start the whole, and a program that has to be built first none at all yet."""
    program = process[2].split()[0]
    is_there = "/" not in program or (context.folder / program).is_file()
    return Rank.PROCESSES if is_there and (alone or process[1] == "web") else Rank.PROPOSAL
