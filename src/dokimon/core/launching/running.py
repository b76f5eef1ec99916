"""Carrying out one run: start it, know that it is up, check it, stop it."""

from __future__ import annotations

import threading
from collections.abc import Callable, Mapping
from http.cookiejar import CookieJar
from pathlib import Path
from typing import Any

import msgspec

from dokimon.core.checks.scene import Scene
from dokimon.core.launching.checking import (
    LAST_LINES,
    SceneOf,
    after_stop,
    changed,
    check_server,
    evidence_beside,
    holder,
    judge_start,
)
from dokimon.core.launching.diagnosis import Look, diagnose, diagnose_start
from dokimon.core.launching.display import VirtualDisplay
from dokimon.core.launching.logs import Logs
from dokimon.core.launching.output import Output, secrets_in
from dokimon.core.launching.readiness import Awaited, wait_until_up
from dokimon.core.launching.sockets import free_port, listeners, strangers
from dokimon.core.launching.stopping import stop
from dokimon.core.launching.tree import StartFault, Tree, how_ended
from dokimon.core.launching.watching import Watcher
from dokimon.core.machine.asking import Asker
from dokimon.core.machine.platform import shell_command
from dokimon.core.planning.plan import RunPlan, shown
from dokimon.core.report.model import Run, Stranger

WhileUp = Callable[[Run, Tree], None]
"""Called with a run that is up and checked: what comes after it, or somebody who wants to look at it, has its turn."""


class Surroundings(msgspec.Struct, frozen=True):
    """What a run is carried out in: the variables, who may halt it, who hears of it, where its output is kept.

    `root` is that of the checkout. `facts` are the values that checks have found out, by run and name.
    `words` stand in braces in commands and variables of runs that come after others: `{tides.url}`, `{tides.port}`.
    `looks` are what a diagnosis can be made fuller with.
    """

    environment: Mapping[str, str]
    halt: threading.Event
    watcher: Watcher
    logs: Logs
    root: Path
    facts: dict[tuple[str, str], Any] = msgspec.field(default_factory=dict)
    words: Mapping[str, str] = {}
    looks: Mapping[str, Look] = {}


def carry_out(plan: RunPlan, around: Surroundings, while_up: WhileUp | None = None) -> Run:
    """Start the run, wait until it is up, check it, let `while_up` have its turn, stop it, and say how all that went."""
    port, held = _choose_port(plan)
    command = _filled(plan.command, port, around.words)
    argv = shell_command(command) if isinstance(command, str) else list(command)
    text = plan.said or shown(command, plan.folder)
    run = Run(
        plan.name, text, plan.kind or "unknown", "unsure", "interrupted", source=plan.source, strangers=held,
        exposure_meant=plan.expose,
    )  # fmt: skip
    watcher = around.watcher
    if around.halt.is_set():
        return run
    if plan.lacks:
        return changed(run, "unsure", plan.lacks)
    watcher.stage(plan.name, f"starting {text}")
    for stranger in held:
        watcher.note(f"port {stranger.port} is already held by {holder(stranger)}")
    variables = {name: _with_words(value, around.words) for name, value in plan.environment.items()}
    variables = {**around.environment, **variables, **({"PORT": str(port)} if plan.port == "any" else {})}
    output = Output(watcher.line, around.logs.path(plan.name), secrets_in(variables), watcher.follower(plan.name))
    display = None
    if plan.has_window and not variables.get("DISPLAY"):
        display = VirtualDisplay.start(variables, around.halt)
        variables = {**variables, **({"DISPLAY": display.name} if display else {})}
    try:
        return _carried_out(run, plan, argv, variables, output, around, port, while_up)
    finally:
        if display:
            display.close()


def _carried_out(
    run: Run, plan: RunPlan, argv: list[str], variables: Mapping[str, str], output: Output, around: Surroundings,
    port: int | None, while_up: WhileUp | None,
) -> Run:  # fmt: skip
    watcher = around.watcher
    keyboard = bool(plan.keys or plan.stop)
    try:
        tree = Tree.start(argv, plan.folder, variables, output, terminal=plan.terminal, keyboard=keyboard)
    except StartFault as fault:
        output.close()
        run = changed(run, "failed", f"could not be started: {fault}")
        return msgspec.structs.replace(run, diagnoses=diagnose_start(argv[0], str(fault), around.looks))
    scene = _scenes(plan, around, variables, tree, port)
    try:
        awaited = Awaited(
            plan.within, port, plan.up_line, plan.up_file, plan.up_get, plan.serves, plan.kind == "program",
            plan.has_window,
        )  # fmt: skip
        state = wait_until_up(tree, awaited, around.halt)
        run = judge_start(run, plan, state, tree, scene)
        if state.how == "up":
            watcher.stage(plan.name, f"up after {state.seconds:.2f} s" + (f" at {state.shown}" if state.shown else ""))
            for keys in plan.keys:
                tree.press(keys)
            run = check_server(run, plan, state, tree, around.halt, scene)
            if while_up and run.verdict != "failed" and not around.halt.is_set():
                while_up(run, tree)
                if tree.ended and not tree.processes() and not around.halt.is_set():
                    last = tree.output.last(LAST_LINES)
                    run = changed(run, "failed", f"{how_ended(tree.exit_status)} after it was up", last_lines=last)
        watcher.stage(plan.name, "stopping")
        run = after_stop(run, plan, stop(tree, plan.stop), tree)
    finally:
        tree.close()
    diagnoses = diagnose(output.kept(), run.exit_status, around.looks) if run.verdict == "failed" else ()
    log = str(output.log) if output.log else None
    return msgspec.structs.replace(run, log=log, warnings=output.warnings or None, diagnoses=diagnoses)


def _scenes(plan: RunPlan, around: Surroundings, variables: Mapping[str, str], tree: Tree, port: int | None) -> SceneOf:
    """Return what makes the scene of the run's checks, once more is known of it."""
    cookies, evidence = CookieJar(), evidence_beside(around.logs.path(plan.name))

    def scene(**more: Any) -> Scene:
        url = (more.get("origin") or "").rstrip("/")
        words = {**around.words, **({"port": str(port)} if port is not None else {}), **({"url": url} if url else {})}
        return Scene(
            name=plan.name, root=around.root, environment=variables, halt=around.halt,
            output=tree.output, facts=around.facts, evidence=evidence,
            listening=lambda: listeners(tree.processes()), processes=tree.processes,
            asker=Asker(variables, around.root), cookies=cookies, words=words, display=variables.get("DISPLAY"), **more,
        )  # fmt: skip

    return scene


def _with_words(text: str, words: Mapping[str, str]) -> str:
    for word, value in words.items():
        text = text.replace(f"{{{word}}}", value)
    return text


def _choose_port(plan: RunPlan) -> tuple[int | None, tuple[Stranger, ...]]:
    """Return the port that the run is given or expected on, and who holds it already."""
    if plan.port is None:
        return None, ()
    if plan.port == "any":
        return free_port(), ()
    held = strangers(plan.port)
    return (free_port(plan.port) if held and plan.may_move else plan.port), held


def _filled(command: str | tuple[str, ...], port: int | None, words: Mapping[str, str]) -> str | tuple[str, ...]:
    known = {**words, **({"port": str(port)} if port is not None else {})}
    if isinstance(command, str):
        return _with_words(command, known)
    return tuple(_with_words(part, known) for part in command)
