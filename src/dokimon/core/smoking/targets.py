"""Targets that a run needs: a device or an emulator must be attached before it, and may be started for it."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager

import msgspec

from dokimon.core.diagnosis.diagnosing import diagnose, diagnose_start
from dokimon.core.machine.platform import shell_command
from dokimon.core.patterns import PatternFault, search
from dokimon.core.planning.plan import RunPlan, TargetPlan, shown
from dokimon.core.processes.masking import secrets_in
from dokimon.core.processes.output import Output
from dokimon.core.processes.stopping import stop
from dokimon.core.processes.to_end import run_to_end
from dokimon.core.processes.tree import StartFault, Tree
from dokimon.core.report.model import Check, CheckVerdict, Diagnosis, Run
from dokimon.core.smoking.running import RunContext, WhileUp, carry_out
from dokimon.core.text import clean

_LIST_SECONDS = 20.0
_LOOK_EVERY = 0.25


class _Found(msgspec.Struct, frozen=True, kw_only=True):
    """What a list of targets showed: their names, or why there is none; and after how many seconds."""

    names: tuple[str, ...]
    seconds: float
    reason: str = ""
    diagnoses: tuple[Diagnosis, ...] = ()


def carry_out_on_targets(plan: RunPlan, context: RunContext, while_up: WhileUp | None = None) -> list[Run]:
    """Carry out a run, on each target that it wants; a run without a target is carried out as it is."""
    wanted = plan.target
    if wanted is None:
        return [carry_out(plan, context, while_up)]
    with _attached(plan, wanted, context) as found:
        name, expected = f"target in {wanted.list_command}", "one is attached"
        text = shown(plan.command, plan.folder)
        if not found.names:
            reason = "interrupted" if context.halt.is_set() else f"no target is attached: {found.reason}"
            check = Check(
                name=name,
                verdict="failed",
                expected=expected,
                seen=clean(found.reason),
                seconds=found.seconds,
                kind="target",
            )
            verdict: CheckVerdict = "unsure" if context.halt.is_set() else "failed"
            run = Run(
                name=plan.name,
                command=text,
                kind=plan.kind or "unknown",
                verdict=verdict,
                reason=clean(reason),
                source=plan.source,
            )
            return [msgspec.structs.replace(run, checks=(check,), diagnoses=found.diagnoses)]
        runs = []
        chosen = found.names if wanted.each else found.names[:1]
        for target in chosen:
            on_target = msgspec.structs.replace(context, words={**context.words, "target": target})
            one = msgspec.structs.replace(plan, name=f"{plan.name}@{target}") if len(chosen) > 1 else plan
            run = carry_out(one, on_target, while_up if target == chosen[-1] else None)
            seen = f"{target}, after {found.seconds:.1f} s" + (f"; started by {wanted.start}" if wanted.start else "")
            check = Check(
                name=name,
                verdict="passed",
                expected=expected,
                seen=clean(seen),
                seconds=found.seconds,
                kind="target",
                source=plan.source,
            )
            runs.append(msgspec.structs.replace(run, checks=(check, *run.checks)))
        return runs


@contextmanager
def _attached(plan: RunPlan, wanted: TargetPlan, context: RunContext) -> Iterator[_Found]:
    """Wait for targets, with what starts one running as long as they are needed."""
    variables = {**context.environment, **plan.environment}
    began = time.monotonic()
    found = _look(plan, wanted, variables, context, began)
    if found.names or wanted.start is None:
        if not found.names:
            found = _wait(plan, wanted, variables, context, began)
        yield found
        return
    context.watcher.stage(plan.name, f"starting a target: {wanted.start}")
    log = context.logs.path(f"{plan.name}-target")
    output = Output(
        context.watcher.line,
        log,
        secrets_in(variables, context.root),
        context.watcher.follower(f"{plan.name}-target"),
        context.logs.largest,
    )
    try:
        tree = Tree.start(shell_command(wanted.start), plan.folder, variables, output)
    except StartFault as fault:
        output.close()
        yield _Found(names=(), seconds=0.0, reason=f"{wanted.start} could not be started: {fault}")
        return
    try:
        yield _wait(plan, wanted, variables, context, began)
    finally:
        stop(tree)
        tree.close()


def _wait(
    plan: RunPlan, wanted: TargetPlan, variables: dict[str, str], context: RunContext, began: float
) -> _Found:  # fmt: skip
    context.watcher.stage(plan.name, f"waiting for a target in {wanted.list_command}")
    while True:
        found = _look(plan, wanted, variables, context, began)
        if found.names or context.halt.is_set() or found.seconds > wanted.within or found.diagnoses:
            return found
        time.sleep(_LOOK_EVERY)


def _look(
    plan: RunPlan, wanted: TargetPlan, variables: dict[str, str], context: RunContext, began: float
) -> _Found:  # fmt: skip
    """Ask once for the list of targets."""
    output = Output()
    command = shell_command(wanted.list_command)
    try:
        end = run_to_end(command, plan.folder, variables, output, _LIST_SECONDS, context.halt)
    except StartFault as fault:
        return _Found(
            names=(),
            seconds=0.0,
            reason=str(fault),
            diagnoses=diagnose_start(wanted.list_command.split()[0], str(fault), context.looks),
        )
    spent = round(time.monotonic() - began, 3)
    lines = output.text().splitlines()
    names: dict[str, None] = {}
    try:
        for line in lines:
            match = search(wanted.line, line)
            if match:
                names[clean(match[1], 80)] = None
    except PatternFault as fault:
        return _Found(names=(), seconds=spent, reason=str(fault))
    last_line = next((line for line in reversed(lines) if line.strip()), "nothing")
    status = f", {end.reason}" if end.status else ""
    reason = f"{wanted.list_command} shows none after {spent:.1f} s{status}; it says “{clean(last_line, 120)}”"
    # A list that cannot be asked for at all will not show one later either.
    diagnoses = diagnose(output.kept(), end.status, context.looks) if end.status == 127 else ()
    return _Found(names=tuple(names), seconds=spent, reason=reason, diagnoses=diagnoses)
