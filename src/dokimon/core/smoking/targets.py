"""Targets that a run needs: a device or an emulator must be attached before it, and may be started for it."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager

import msgspec

from dokimon.core.diagnosis.diagnosing import diagnose, diagnose_start
from dokimon.core.machine.platform import shell_command
from dokimon.core.patterns import PatternFault, search
from dokimon.core.planning.plan import RunPlan, TargetPlan
from dokimon.core.processes.output import Output
from dokimon.core.processes.stopping import stop
from dokimon.core.processes.to_end import run_to_end
from dokimon.core.processes.tree import StartFault, Tree
from dokimon.core.report.model import Check, CheckVerdict, Diagnosis, Run
from dokimon.core.smoking.context import RunContext
from dokimon.core.smoking.run.attempts import Attempt, carry_out
from dokimon.core.smoking.run.outcome import Attached
from dokimon.core.smoking.run.session import output_of
from dokimon.core.text import clean

_LIST_SECONDS = 20.0
_LOOK_EVERY = 0.25


class _Found(msgspec.Struct, frozen=True, kw_only=True):
    """What a list of targets showed: their names, or why there is none; and after how many seconds."""

    names: tuple[str, ...]
    seconds: float
    reason: str = ""
    diagnoses: tuple[Diagnosis, ...] = ()


class OnTargets:
    """A run on the targets that it wants. `last` is the one that stays up in the block; `reports` are complete after it."""

    def __init__(self, before: tuple[Run, ...], last: Attempt) -> None:
        self._before = before
        self.last = last

    @property
    def reports(self) -> tuple[Run, ...]:
        """The reports of the run on each target."""
        return (*self._before, self.last.report)


@contextmanager
def on_targets(plan: RunPlan, context: RunContext) -> Iterator[OnTargets]:
    """Carry out a run, on each target that it wants, the last one for the block; one without a target, as it is."""
    wanted = plan.target
    if wanted is None:
        with carry_out(plan, context) as attempt:
            yield OnTargets((), attempt)
        return
    with _attached(plan, wanted, context) as found:
        names: tuple[str | None, ...] = (found.names if wanted.each else found.names[:1]) or (None,)
        before: list[Run] = []
        for name in names[:-1]:
            with carry_out(*_on(name, plan, context, found, len(names))) as attempt:
                pass
            before.append(attempt.report)
        with carry_out(*_on(names[-1], plan, context, found, len(names))) as attempt:
            yield OnTargets(tuple(before), attempt)


def _on(
    name: str | None, plan: RunPlan, context: RunContext, found: _Found, count: int
) -> tuple[RunPlan, RunContext, Attached | None]:
    """Return the run as it is carried out on one target, None where there is none, with what was seen of that."""
    wanted = plan.target
    assert wanted is not None
    if name is None and context.halt.is_set():
        return plan, context, Attached(_check(wanted, plan, "failed", found.reason, found))
    if name is None:
        lacks = clean(f"no target is attached: {found.reason}")
        return plan, context, Attached(_check(wanted, plan, "failed", found.reason, found), lacks, found.diagnoses)
    seen = f"{name}, after {found.seconds:.1f} s" + (f"; started by {wanted.start}" if wanted.start else "")
    here = msgspec.structs.replace(context, words={**context.words, "target": name})
    one = msgspec.structs.replace(plan, name=f"{plan.name}@{name}") if count > 1 else plan
    return one, here, Attached(_check(wanted, plan, "passed", seen, found))


def _check(wanted: TargetPlan, plan: RunPlan, verdict: CheckVerdict, seen: str, found: _Found) -> Check:
    return Check(
        name=f"target in {wanted.list_command}",
        verdict=verdict,
        expected="one is attached",
        seen=clean(seen),
        seconds=found.seconds,
        kind="target",
        source=plan.source if verdict == "passed" else None,
    )


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
    output = output_of(f"{plan.name}-target", f"{plan.name}-target", variables, context)
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
