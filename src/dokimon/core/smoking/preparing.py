"""Carrying out prepare steps."""

from __future__ import annotations

import os
import time
from pathlib import Path

import msgspec

from dokimon.core.diagnosis.diagnosing import diagnose, diagnose_start
from dokimon.core.planning.plan import PrepareStep, argv_of, shown
from dokimon.core.processes.exit_status import how_ended
from dokimon.core.processes.stopping import stop
from dokimon.core.processes.tree import StartFault, Tree
from dokimon.core.report.model import CheckVerdict, Prepared
from dokimon.core.smoking.built import built_elsewhere
from dokimon.core.smoking.context import RunContext
from dokimon.core.smoking.run.outcome import could_not_be_ended
from dokimon.core.smoking.run.session import output_of
from dokimon.core.smoking.shown.by_checkout import shown_by_checkout
from dokimon.core.smoking.workable import workable

_LAST_LINES = 15


def prepare(step: PrepareStep, context: RunContext) -> Prepared:
    """Do one step if it is needed, and say how it went."""
    command = shown(step.command, step.folder, step.words)
    if step.needed is None:
        return Prepared(title=step.title, verdict="skipped", reason=step.reason, command=command, source=step.source)
    watcher, halt = context.watcher, context.halt
    watcher.stage(step.title, f"{command}   ({step.needed})")
    started, at_seconds = time.monotonic(), context.spent
    variables = {**context.environment, **step.environment}
    output = output_of(step.title, f"prepare-{step.title}", variables, context)
    argv = argv_of(step.command, step.words)

    def ended(verdict: CheckVerdict, reason: str, status: int | None = None) -> Prepared:
        last = () if verdict == "passed" else output.last(_LAST_LINES)
        spent = round(time.monotonic() - started, 3)
        prepared = Prepared(
            title=step.title,
            verdict=verdict,
            reason=reason,
            command=command,
            at_seconds=at_seconds,
            seconds=spent,
            source=step.source,
            exit_status=status,
            last_lines=last,
        )
        kept = output.kept()
        diagnoses = diagnose(kept, status, context.looks, root=context.root) if verdict == "failed" else ()
        diagnoses = shown_by_checkout(kept, context.root, step.folder)[:1] or diagnoses if diagnoses else ()
        diagnoses = workable(diagnoses, step.folder)
        return msgspec.structs.replace(
            prepared,
            log=str(output.log) if output.log else None,
            log_left_out=output.left_out or None,
            diagnoses=diagnoses,
        )

    try:
        tree = Tree.start(argv, step.folder, variables, output)
    except StartFault as fault:
        output.close()
        causes = diagnose_start(argv[0], str(fault), context.looks)
        return msgspec.structs.replace(ended("failed", f"could not be started: {fault}"), diagnoses=causes)
    try:
        while not tree.wait(0.1):
            if halt.is_set():
                stop(tree)
                return ended("unsure", "interrupted")
            if time.monotonic() - started > step.within:
                stop(tree)
                return ended("failed", f"did not end within {step.within:g} s", tree.exit_status)
        output.wait(1.0)
    finally:
        left = tree.close()
    if left:
        return ended("failed", could_not_be_ended(left), tree.exit_status)
    if tree.exit_status:
        return ended("failed", how_ended(tree.exit_status), tree.exit_status)
    missing = [path for path in step.makes if not path.exists() and not _is_elsewhere(path, step)]
    if missing:
        return ended("failed", f"ended well but did not make {missing[0].name}", 0)
    _touch(step.makes)
    return ended("passed", step.needed, 0)


def _is_elsewhere(path: Path, step: PrepareStep) -> bool:
    """Whether make put a program in another place than its Makefile seemed to say."""
    return step.command[:1] == ("make",) and built_elsewhere(path, step.folder) is not None


def _touch(makes: tuple[Path, ...]) -> None:
    """Mark what a step made as made now: a folder keeps its time when only files deep inside it are renewed."""
    for path in makes:
        if path.exists():
            os.utime(path)
