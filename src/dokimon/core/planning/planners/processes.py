"""A Procfile: the processes of an application, one a line (`web: gunicorn app:app`)."""

from __future__ import annotations

from dokimon.core.planning.plan import Plan, PlanContext, Rank, RunPlan
from dokimon.core.planning.procfile import Process, processes_in, procfile_of


def plan(context: PlanContext) -> Plan | None:
    """Return the processes of the Procfile, the one for the web first."""
    path = procfile_of(context.folder)
    if path is None:
        return None
    found = sorted(processes_in(path), key=lambda each: each.name != "web")
    runs = tuple(
        RunPlan(
            name=each.name,
            command=each.command,
            folder=context.folder,
            source=context.source(path, each.number, each.line),
            kind="server" if each.name == "web" else None,
            port="any" if each.name == "web" or "$PORT" in each.command or "${PORT" in each.command else None,
            rank=_rank(context, each, alone=len(found) == 1),
        )
        for each in found
    )
    return Plan(runs=runs) if runs else None


def _rank(context: PlanContext, process: Process, *, alone: bool) -> Rank:
    """One process of several is no way to start the whole, and a program that has to be built first none at all yet."""
    program = process.command.split()[0]
    is_there = "/" not in program or (context.folder / program).is_file()
    return Rank.PROCESSES if is_there and (alone or process.name == "web") else Rank.PROPOSAL
