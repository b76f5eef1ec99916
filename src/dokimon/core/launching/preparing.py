"""Carrying out prepare steps."""

from __future__ import annotations

import os
import time
from pathlib import Path

import msgspec

from dokimon.core.launching.diagnosis import diagnose, diagnose_start
from dokimon.core.launching.output import Output, secrets_in
from dokimon.core.launching.running import Surroundings
from dokimon.core.launching.stopping import stop
from dokimon.core.launching.tree import StartFault, Tree, how_ended
from dokimon.core.machine.platform import shell_command
from dokimon.core.planning.plan import Step, shown
from dokimon.core.report.model import CheckVerdict, Prepared

_LAST_LINES = 15


def prepare(step: Step, around: Surroundings) -> Prepared:
    """Do one step if it is needed, and say how it went."""
    if step.needed is None:
        return Prepared(step.title, "skipped", step.reason, shown(step.command, step.folder), source=step.source)
    watcher, halt = around.watcher, around.halt
    watcher.stage(step.title, f"{shown(step.command, step.folder)}   ({step.needed})")
    started = time.monotonic()
    variables = {**around.environment, **step.environment}
    log = around.logs.path(f"prepare-{step.title}")
    output = Output(watcher.line, log, secrets_in(variables), watcher.follower(step.title))
    argv = shell_command(step.command) if isinstance(step.command, str) else list(step.command)

    def ended(verdict: CheckVerdict, reason: str, status: int | None = None) -> Prepared:
        last = () if verdict == "passed" else output.last(_LAST_LINES)
        spent = round(time.monotonic() - started, 3)
        made = Prepared(step.title, verdict, reason, shown(step.command, step.folder), spent, step.source, status, last)
        diagnoses = diagnose(output.kept(), status, around.looks) if verdict == "failed" else ()
        return msgspec.structs.replace(made, log=str(output.log) if output.log else None, diagnoses=diagnoses)

    try:
        tree = Tree.start(argv, step.folder, variables, output)
    except StartFault as fault:
        output.close()
        told = diagnose_start(argv[0], str(fault), around.looks)
        return msgspec.structs.replace(ended("failed", f"could not be started: {fault}"), diagnoses=told)
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
        tree.close()
    if tree.exit_status:
        return ended("failed", how_ended(tree.exit_status), tree.exit_status)
    missing = [path for path in step.makes if not path.exists()]
    if missing:
        return ended("failed", f"ended well but did not make {missing[0].name}", 0)
    _touch(step.makes)
    return ended("passed", step.needed, 0)


def _touch(makes: tuple[Path, ...]) -> None:
    """Mark what a step made as made now: a folder keeps its time when only files deep inside it are renewed."""
    for path in makes:
        os.utime(path)
