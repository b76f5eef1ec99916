"""Targets that a run needs: a device or an emulator must be attached before it, and may be started for it."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager

import msgspec

from dokimon.core.checks.patterns import PatternFault, search
from dokimon.core.launching.diagnosis import diagnose, diagnose_start
from dokimon.core.launching.output import Output, secrets_in
from dokimon.core.launching.running import Surroundings, WhileUp, carry_out
from dokimon.core.launching.stopping import stop
from dokimon.core.launching.to_end import run_to_end
from dokimon.core.launching.tree import StartFault, Tree
from dokimon.core.machine.platform import shell_command
from dokimon.core.planning.plan import RunPlan, TargetPlan, shown
from dokimon.core.report.model import Check, CheckVerdict, Diagnosis, Run
from dokimon.core.text import clean

_LIST_SECONDS = 20.0
_LOOK_EVERY = 0.25


class _Found(msgspec.Struct, frozen=True):
    """What a list of targets showed: their names, or why there is none; and after how many seconds."""

    names: tuple[str, ...]
    seconds: float
    reason: str = ""
    diagnoses: tuple[Diagnosis, ...] = ()


def carry_out_on_targets(plan: RunPlan, around: Surroundings, while_up: WhileUp | None = None) -> list[Run]:
    """Carry out a run, on each target that it wants; a run without a target is carried out as it is."""
    wanted = plan.target
    if wanted is None:
        return [carry_out(plan, around, while_up)]
    with _attached(plan, wanted, around) as found:
        name, expected = f"target in {wanted.list_command}", "one is attached"
        text = shown(plan.command, plan.folder)
        if not found.names:
            reason = "interrupted" if around.halt.is_set() else f"no target is attached: {found.reason}"
            check = Check(name, "failed", expected, clean(found.reason), found.seconds, kind="target")
            verdict: CheckVerdict = "unsure" if around.halt.is_set() else "failed"
            run = Run(plan.name, text, plan.kind or "unknown", verdict, clean(reason), source=plan.source)
            return [msgspec.structs.replace(run, checks=(check,), diagnoses=found.diagnoses)]
        runs = []
        chosen = found.names if wanted.each else found.names[:1]
        for target in chosen:
            told = msgspec.structs.replace(around, words={**around.words, "target": target})
            one = msgspec.structs.replace(plan, name=f"{plan.name}@{target}") if len(chosen) > 1 else plan
            run = carry_out(one, told, while_up if target == chosen[-1] else None)
            seen = f"{target}, after {found.seconds:.1f} s" + (f"; started by {wanted.start}" if wanted.start else "")
            check = Check(name, "passed", expected, clean(seen), found.seconds, kind="target", source=plan.source)
            runs.append(msgspec.structs.replace(run, checks=(check, *run.checks)))
        return runs


@contextmanager
def _attached(plan: RunPlan, wanted: TargetPlan, around: Surroundings) -> Iterator[_Found]:
    """Wait for targets, with what starts one running as long as they are needed."""
    variables = {**around.environment, **plan.environment}
    began = time.monotonic()
    found = _look(plan, wanted, variables, around, began)
    if found.names or wanted.start is None:
        if not found.names:
            found = _wait(plan, wanted, variables, around, began)
        yield found
        return
    around.watcher.stage(plan.name, f"starting a target: {wanted.start}")
    log = around.logs.path(f"{plan.name}-target")
    output = Output(around.watcher.line, log, secrets_in(variables), around.watcher.follower(f"{plan.name}-target"))
    try:
        tree = Tree.start(shell_command(wanted.start), plan.folder, variables, output)
    except StartFault as fault:
        output.close()
        yield _Found((), 0.0, f"{wanted.start} could not be started: {fault}")
        return
    try:
        yield _wait(plan, wanted, variables, around, began)
    finally:
        stop(tree)
        tree.close()


def _wait(
    plan: RunPlan, wanted: TargetPlan, variables: dict[str, str], around: Surroundings, began: float
) -> _Found:  # fmt: skip
    around.watcher.stage(plan.name, f"waiting for a target in {wanted.list_command}")
    while True:
        found = _look(plan, wanted, variables, around, began)
        if found.names or around.halt.is_set() or found.seconds > wanted.within or found.diagnoses:
            return found
        time.sleep(_LOOK_EVERY)


def _look(
    plan: RunPlan, wanted: TargetPlan, variables: dict[str, str], around: Surroundings, began: float
) -> _Found:  # fmt: skip
    """Ask once for the list of targets."""
    output = Output()
    command = shell_command(wanted.list_command)
    try:
        end = run_to_end(command, plan.folder, variables, output, _LIST_SECONDS, around.halt)
    except StartFault as fault:
        return _Found((), 0.0, str(fault), diagnose_start(wanted.list_command.split()[0], str(fault), around.looks))
    spent = round(time.monotonic() - began, 3)
    lines = output.text().splitlines()
    names: dict[str, None] = {}
    try:
        for line in lines:
            match = search(wanted.line, line)
            if match:
                names[clean(match[1], 80)] = None
    except PatternFault as fault:
        return _Found((), spent, str(fault))
    said = next((line for line in reversed(lines) if line.strip()), "nothing")
    status = f", {end.reason}" if end.status else ""
    reason = f"{wanted.list_command} shows none after {spent:.1f} s{status}; it says “{clean(said, 120)}”"
    # A list that cannot be asked for at all will not show one later either.
    diagnoses = diagnose(output.kept(), end.status, around.looks) if end.status == 127 else ()
    return _Found(tuple(names), spent, reason, diagnoses)
