"""Carrying out one run: start it, know that it is up, check it, stop it."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Mapping
from concurrent.futures import ThreadPoolExecutor
from typing import Literal

import msgspec

from dokimon.core.checks.ending import check_ending
from dokimon.core.checks.page import check_page
from dokimon.core.launching.diagnosis import Look, diagnose, diagnose_start
from dokimon.core.launching.logs import Logs
from dokimon.core.launching.output import Output, secrets_in
from dokimon.core.launching.process_table import unix_sockets
from dokimon.core.launching.readiness import Awaited, State, wait_until_up
from dokimon.core.launching.sockets import free_port, listeners, strangers
from dokimon.core.launching.stopping import Stopped, stop
from dokimon.core.launching.tree import StartFault, Tree, how_ended
from dokimon.core.launching.watching import Watcher
from dokimon.core.machine.platform import shell_command
from dokimon.core.planning.plan import PageCheck, RunPlan, shown
from dokimon.core.report.model import Check, CheckVerdict, Run, Stranger

_LAST_LINES = 15

_ROOT_PAGE = (PageCheck(),)
"""What a server is asked for when nobody says what it must show."""

WhileUp = Callable[[Run, Tree], None]
"""Called with a run that is up and checked: what comes after it, or somebody who wants to look at it, has its turn."""


class Surroundings(msgspec.Struct, frozen=True):
    """What a run is carried out in: the variables, who may halt it, who hears of it, where its output is kept.

    `words` stand in braces in commands and variables of runs that come after others: `{tides.url}`, `{tides.port}`.
    `looks` are what a diagnosis can be made fuller with.
    """

    environment: Mapping[str, str]
    halt: threading.Event
    watcher: Watcher
    logs: Logs
    words: Mapping[str, str] = {}
    looks: Mapping[str, Look] = {}


def carry_out(plan: RunPlan, around: Surroundings, while_up: WhileUp | None = None) -> Run:
    """Start the run, wait until it is up, check it, let `while_up` have its turn, stop it, and say how all that went."""
    port, held = _choose_port(plan)
    command = _filled(plan.command, port, around.words)
    argv = shell_command(command) if isinstance(command, str) else list(command)
    text = shown(command, plan.folder)
    run = Run(
        plan.name, text, plan.kind or "unknown", "unsure", "interrupted", source=plan.source, strangers=held,
        exposure_meant=plan.expose,
    )  # fmt: skip
    watcher = around.watcher
    if around.halt.is_set():
        return run
    watcher.stage(plan.name, f"starting {text}")
    for stranger in held:
        watcher.note(f"port {stranger.port} is already held by {holder(stranger)}")
    variables = {name: _with_words(value, around.words) for name, value in plan.environment.items()}
    variables = {**around.environment, **variables, **({"PORT": str(port)} if plan.port == "any" else {})}
    output = Output(watcher.line, around.logs.path(plan.name), secrets_in(variables), watcher.follower(plan.name))
    keyboard = bool(plan.keys or plan.stop)
    try:
        tree = Tree.start(argv, plan.folder, variables, output, terminal=plan.terminal, keyboard=keyboard)
    except StartFault as fault:
        output.close()
        run = _changed(run, "failed", f"could not be started: {fault}")
        return msgspec.structs.replace(run, diagnoses=diagnose_start(argv[0], str(fault), around.looks))
    try:
        awaited = Awaited(
            plan.within, port, plan.up_line, plan.up_file, plan.up_get, bool(plan.pages), plan.kind == "program"
        )
        state = wait_until_up(tree, awaited, around.halt)
        run = _judge_start(run, plan, state, tree)
        if state.how == "up":
            watcher.stage(plan.name, f"up after {state.seconds:.2f} s" + (f" at {state.shown}" if state.shown else ""))
            for keys in plan.keys:
                tree.press(keys)
            run = _check_server(run, plan, state, tree, around.halt)
            if while_up and run.verdict != "failed" and not around.halt.is_set():
                while_up(run, tree)
                if tree.ended and not tree.processes() and not around.halt.is_set():
                    last = tree.output.last(_LAST_LINES)
                    run = _changed(run, "failed", f"{how_ended(tree.exit_status)} after it was up", last_lines=last)
        watcher.stage(plan.name, "stopping")
        run = _after_stop(run, stop(tree, plan.stop), tree)
    finally:
        tree.close()
    diagnoses = diagnose(output.kept(), run.exit_status, around.looks) if run.verdict == "failed" else ()
    log = str(output.log) if output.log else None
    return msgspec.structs.replace(run, log=log, warnings=output.warnings or None, diagnoses=diagnoses)


def _with_words(text: str, words: Mapping[str, str]) -> str:
    for word, value in words.items():
        text = text.replace(f"{{{word}}}", value)
    return text


def _changed(run: Run, verdict: CheckVerdict, reason: str, **more: object) -> Run:
    return msgspec.structs.replace(run, verdict=verdict, reason=reason, **more)


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


def holder(stranger: Stranger) -> str:
    """Return in words who holds a port."""
    if stranger.pid is None:
        return "a process that may not be looked at"
    return f"process {stranger.pid} ({stranger.command})"


def _judge_start(run: Run, plan: RunPlan, state: State, tree: Tree) -> Run:
    """Say what the wait came to; a run that is up is judged by its checks."""
    seconds = round(state.seconds, 3)
    if state.how == "halted":
        return run
    if state.how == "late":
        last = tree.output.last(_LAST_LINES)
        found = listeners(tree.processes())
        if plan.kind == "program":
            return _changed(run, "failed", f"did not end within {plan.within:g} s", last_lines=last)
        if found:
            where = ", ".join(str(port) for port in sorted({at.port for at in found}))
            answer = f"answer GET {plan.up_get} with a success" if plan.up_get else "answer over HTTP"
            reason = f"listens on port {where} but did not {answer} within {plan.within:g} s"
            return _changed(run, "failed", reason, last_lines=last, listening=found)
        paths = unix_sockets(tree.processes())
        where = f"only on the UNIX socket {paths[0]}" if paths else "nowhere"
        reason = f"still running after {plan.within:g} s, and listens {where}"
        return _changed(run, "unsure" if plan.kind is None else "failed", reason, last_lines=last)
    if state.how == "ended":
        return _judge_end(run, plan, seconds, tree)
    return _changed(
        run,
        "passed",
        "it is up",
        kind="server",
        url=state.shown and state.shown + "/",
        up_by=state.by,
        up_seconds=seconds,
    )


def _judge_end(run: Run, plan: RunPlan, seconds: float, tree: Tree) -> Run:
    tree.output.wait(1.0)
    status = tree.exit_status
    last = tree.output.last(_LAST_LINES)
    if plan.kind == "server" or (plan.kind is None and status != plan.end.exit):
        reason = f"{how_ended(status)} after {seconds:.2f} s, before it was up"
        return _changed(run, "failed", reason, exit_status=status, last_lines=last)
    checks = check_ending(plan.end, status, seconds, tree.output)
    verdict: CheckVerdict = "failed" if any(check.verdict == "failed" for check in checks) else "passed"
    reason = f"{how_ended(status)} after {seconds:.2f} s"
    kind: Literal["program"] = "program"
    return _changed(run, verdict, reason, kind=kind, checks=checks, exit_status=status, last_lines=last)


def _check_server(run: Run, plan: RunPlan, state: State, tree: Tree, halt: threading.Event) -> Run:
    run = msgspec.structs.replace(run, listening=listeners(tree.processes()))
    if state.url is None or state.at is None:
        return run
    if state.contested:
        who = ", ".join(holder(each) for each in state.contested)
        reason = f"port {state.at.port} is shared with {who}: nobody can tell whose the answer is"
        return _changed(run, "unsure", reason, strangers=(*run.strangers, *state.contested))
    checks = _pages(state.url, plan, halt)
    if checks is None:
        return _changed(run, "unsure", "interrupted")
    if not any(at.port == state.at.port for at in listeners(tree.processes())):
        ended = how_ended(tree.exit_status) if tree.ended else "no longer listens"
        last = tree.output.last(_LAST_LINES)
        reason = f"it {ended} while it was being checked"
        return _changed(run, "failed", reason, checks=checks, last_lines=last, exit_status=tree.exit_status)
    failed = [check for check in checks if check.verdict == "failed"]
    unsure = [check for check in checks if check.verdict == "unsure"]
    if failed:
        last = tree.output.last(_LAST_LINES)
        return _changed(run, "failed", _said(failed[0]), checks=checks, last_lines=last)
    if unsure:
        return _changed(run, "unsure", _said(unsure[0]), checks=checks)
    return _changed(run, "passed", "it is up, and every check passed", checks=checks)


def _said(check: Check) -> str:
    return f"{check.name}: {check.seen} (expected: {check.expected})"


def _pages(url: str, plan: RunPlan, halt: threading.Event) -> tuple[Check, ...] | None:
    """Check the pages in order, in a thread so that an interruption need not wait for a slow answer."""
    pool = ThreadPoolExecutor(max_workers=1)
    try:
        future = pool.submit(
            lambda: tuple(check for page in plan.pages or _ROOT_PAGE for check in check_page(url, page))
        )
        while not future.done():
            if halt.is_set():
                return None
            time.sleep(0.01)
        return future.result()
    finally:
        pool.shutdown(wait=False, cancel_futures=True)


def _after_stop(run: Run, stopped: Stopped, tree: Tree) -> Run:
    """Add how it was stopped, and see that nothing is left: no process, no port held."""
    exit_status = run.exit_status if run.exit_status is not None else tree.exit_status
    run = msgspec.structs.replace(
        run,
        exit_status=exit_status,
        stopped_by=stopped.by,
        stop_seconds=stopped.seconds if stopped.by else None,
        stopping=stopped.steps,
        left_behind=stopped.left_behind,
    )
    if run.kind != "server":
        return run
    known = {(stranger.port, stranger.pid) for stranger in run.strangers}
    held = [
        each for port in {at.port for at in run.listening} for each in strangers(port) if (port, each.pid) not in known
    ]
    where = ", ".join(str(port) for port in sorted({at.port for at in run.listening}))
    if stopped.left_behind or held:
        seen = "; ".join([*stopped.left_behind, *(f"port {each.port} held by {holder(each)}" for each in held)])
        verdict: CheckVerdict = "failed"
    else:
        signals = " then ".join(step.signal for step in stopped.steps) or "ended by itself"
        seen = f"{signals}, gone after {stopped.seconds:.2f} s" + (f", port {where} free" if where else "")
        verdict = "passed"
    check = Check("stops", verdict, "no process left, its ports free", seen, stopped.seconds)
    run = msgspec.structs.replace(run, checks=(*run.checks, check))
    return _changed(run, "failed", f"stops: {seen}") if verdict == "failed" else run
