"""Holding a run against what is expected of it: how its start came out, its checks, how it stopped."""

from __future__ import annotations

import re
import threading
import time
from collections import Counter
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Literal

import msgspec

from dokimon.core.checks.carrying_out import PlannedCheck, carry_out_checks
from dokimon.core.checks.console import ending, unasked
from dokimon.core.checks.context import CheckContext
from dokimon.core.checks.measuring import as_text
from dokimon.core.declarations.checkout import SETTINGS_FILE
from dokimon.core.planning.plan import RunPlan
from dokimon.core.processes.answering import status_of
from dokimon.core.processes.exit_status import how_ended
from dokimon.core.processes.masking import is_secret_name
from dokimon.core.processes.picture import BLIND
from dokimon.core.processes.process_table import unix_sockets
from dokimon.core.processes.readiness import State
from dokimon.core.processes.settling import Settled
from dokimon.core.processes.sockets import addresses_for_others, listeners, strangers
from dokimon.core.processes.stopping import Stopped
from dokimon.core.processes.tree import Tree
from dokimon.core.report.model import Check, CheckVerdict, Fact, Run, Stranger
from dokimon.core.report.summary import told_once
from dokimon.core.text import clean

LAST_LINES = 15
_LAST_LINES_WHILE_UP = 5
"""A live server logs every request; show fewer of its last lines than of a run that failed."""

ContextOf = Callable[..., CheckContext]
"""Makes the check_context of the run, with its `origin`, or as `ended`."""


def changed(run: Run, verdict: CheckVerdict, reason: str, **more: object) -> Run:
    """Return the run with another verdict and the reason for it."""
    return msgspec.structs.replace(run, verdict=verdict, reason=reason, **more)


def holder(stranger: Stranger) -> str:
    """Return in words who holds a port."""
    if stranger.pid is None:
        return "a process that cannot be looked at"
    return f"process {stranger.pid} ({stranger.command})"


def judge_start(run: Run, plan: RunPlan, state: State, tree: Tree, check_context: ContextOf) -> Run:
    """Say what the wait came to; a run that is up is judged by its checks."""
    seconds = round(state.seconds, 3)
    if state.how == "halted":
        return run
    if state.how == "late":
        return _late(run, plan, tree)
    if state.how == "ended":
        return _judge_end(run, plan, seconds, tree, check_context)
    if state.settled and state.how == "settled":
        return _judge_settled(run, state.settled, seconds, tree)
    return changed(
        run,
        "passed",
        "it is up",
        kind="server",
        url=state.shown and state.shown + "/",
        up_by=state.by,
        up_seconds=seconds,
    )


def _judge_settled(run: Run, settled: Settled, seconds: float, tree: Tree) -> Run:
    """A run that does nothing more and listens nowhere: what it said last tells what it is."""
    last = tree.output.last(LAST_LINES)
    line = clean(settled.line, 160)
    if settled.how == "crashed":
        return changed(run, "failed", f"what it watches has ended with an error: “{line}”", last_lines=last)
    if settled.how == "asks":
        reason = f"it asks “{line}” and waits for an answer; `keys` of a [[run]] in dokimon.toml types one"
        return changed(run, "unsure", reason, last_lines=last)
    reason = f"still running after {seconds:.0f} s: it does nothing, prints nothing more, and listens nowhere"
    return changed(run, "unsure", reason, last_lines=last)


def _late(run: Run, plan: RunPlan, tree: Tree) -> Run:
    last = tree.output.last(LAST_LINES)
    found = listeners(tree.processes())
    if tree.output.gave_up:
        reason = f"the pattern {plan.up_line!r} of its `up` takes too long to search for; simplify it"
        return changed(run, "failed", clean(reason), last_lines=last)
    if plan.kind == "program":
        return changed(run, "failed", f"did not end within {plan.within:g} s", last_lines=last)
    if found:
        where = ", ".join(str(port) for port in sorted({at.port for at in found}))
        answer = f"answer GET {plan.up_get} with a success" if plan.up_get else "answer over HTTP"
        reason = f"listens on port {where} but did not {answer} within {plan.within:g} s"
        return changed(run, "failed", reason, last_lines=last, listening=found)
    paths = unix_sockets(tree.processes())
    where = f"only on the UNIX socket {paths[0]}" if paths else "nowhere"
    reason = f"still running after {plan.within:g} s, and listens {where}"
    return changed(run, "unsure" if plan.kind is None else "failed", reason, last_lines=last)


def _judge_end(run: Run, plan: RunPlan, seconds: float, tree: Tree, check_context: ContextOf) -> Run:
    tree.output.wait(1.0)
    status = tree.exit_status
    last = tree.output.last(LAST_LINES)
    expected = plan.expected_exit or 0
    if plan.kind == "server" or (plan.kind is None and status != expected):
        reason = f"{how_ended(status)} after {seconds:.2f} s, before it was up"
        return changed(run, "failed", reason, exit_status=status, last_lines=last)
    over = check_context(ended=(status, seconds))
    found = carry_out_checks(plan.checks, over)
    if found is None:
        return changed(run, "unsure", "interrupted", exit_status=status)
    checks = (*ending(expected, status, seconds), *found)
    if not plan.checks and status == expected:
        written_down = plan.kind == "program" and plan.source.file == SETTINGS_FILE
        checks = (*checks, *unasked(over, may_be_silent=written_down))
    kind: Literal["program"] = "program"
    run = msgspec.structs.replace(run, kind=kind, checks=checks, exit_status=status, last_lines=last)
    return _judged(run, f"{how_ended(status)} after {seconds:.2f} s", _facts(over))


def check_server(
    run: Run, plan: RunPlan, state: State, tree: Tree, halt: threading.Event, check_context: ContextOf
) -> Run:
    """Run the configured checks of a run that is up, or the defaults."""
    run = msgspec.structs.replace(run, listening=listeners(tree.processes()))
    if state.contested and state.at:
        who = ", ".join(holder(each) for each in state.contested)
        reason = f"port {state.at.port} is shared with {who}: it is not known whose answer this is"
        return changed(run, "unsure", reason, strangers=(*run.strangers, *state.contested))
    here = check_context(origin=state.url)
    found = carry_out_checks(_with_usual(plan, state.url), here)
    if found is None:
        return changed(run, "unsure", "interrupted")
    if state.settled and not plan.checks:
        found = (*found, *unasked(here))
    if state.url and not plan.checks:
        found = (*found, *_others(run, state))
    if state.url and state.url.startswith("https:"):
        from dokimon.core.checks.certificate import check_certificate

        found = (*found, *check_certificate(state.url))
    if state.url and plan.expose:
        from dokimon.core.checks.exposure import reachable

        found = (*found, *reachable(addresses_for_others(run), state.url))
    run = msgspec.structs.replace(run, checks=found)
    if state.at and not any(at.port == state.at.port for at in listeners(tree.processes())):
        ended = how_ended(tree.exit_status) if tree.ended or tree.is_gone() else "no longer listens"
        last = tree.output.last(LAST_LINES)
        reason = f"it {ended} while it was being checked"
        return changed(run, "failed", reason, last_lines=last, exit_status=tree.exit_status)
    return _judged(run, "it is up, and every check passed" if found else "it is up", _facts(here), tree)


_MOST_OTHERS = 5


def _others(run: Run, state: State) -> list[Check]:
    """Look at what else listens: one of several servers that answers with a server error fails the run."""
    checks = []
    mine = state.at.port if state.at else None
    ports = {at.port: at for at in run.listening if at.port != mine}
    for port, at in sorted(ports.items())[:_MOST_OTHERS]:
        begun = time.monotonic()
        status = status_of(at, 5.0)
        seen = "accepts connections; no HTTP" if status is None else f"GET /: {status}"
        verdict: CheckVerdict = "failed" if status is not None and status >= 500 else "passed"
        spent = round(time.monotonic() - begun, 3)
        checks.append(Check(name=f"also {port}", verdict=verdict, expected="no server error", seen=seen, seconds=spent))
    return checks


def _with_usual(plan: RunPlan, url: str | None) -> tuple[PlannedCheck, ...]:
    """Return the checks of a server: where none asks it for anything, its root page is looked at too."""
    if url is None or plan.asks_server:
        return plan.checks
    from dokimon.core.checks.http import Http

    return (PlannedCheck(Http(get="/")), *plan.checks)


def _judged(run: Run, well: str, facts: tuple[Fact, ...], tree: Tree | None = None) -> Run:
    """Return the run with the verdict that its checks come to."""
    run = msgspec.structs.replace(run, facts=facts)
    for verdict in ("failed", "unsure"):
        found = next((check for check in told_once(run.checks) if check.verdict == verdict), None)
        if found and run.kind == "program":
            return changed(run, verdict, well if found.name == "ends" else _said(found))
        if found:
            last = tree.output.last(_LAST_LINES_WHILE_UP) if tree and verdict == "failed" else ()
            return changed(run, verdict, _said(found), last_lines=last)
    return changed(run, "passed", well)


def _said(check: Check) -> str:
    return f"{check.full_name}: {check.seen} (expected: {check.expected})"


def _facts(check_context: CheckContext) -> tuple[Fact, ...]:
    mine = sorted((name, value) for (run, name), value in check_context.facts.items() if run == check_context.name)
    return tuple(
        Fact(clean(name, 80), "***" if is_secret_name(name) else clean(as_text(value), 200)) for name, value in mine
    )


_WITHOUT_WARDEN = (
    "the process by which Dokimon keeps the run together was killed; all that was known of the run was killed"
)


def could_not_be_ended(left: Sequence[str]) -> str:
    """Say which processes live on although they were killed."""
    if left == (BLIND,):
        return BLIND
    return f"these processes could not be ended: {', '.join(left[:5])}" + (
        f" and {len(left) - 5} more" if left[5:] else ""
    )


def after_stop(run: Run, plan: RunPlan, stopped: Stopped, tree: Tree) -> Run:
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
    if tree.lost_warden:
        run = changed(run, "failed", _WITHOUT_WARDEN)
    if stopped.left_behind:
        run = changed(run, "failed", could_not_be_ended(stopped.left_behind))
    if run.kind != "server":
        return run
    if plan.expected_exit is not None:
        ends = ending(plan.expected_exit, exit_status, stopped.seconds)
        run = msgspec.structs.replace(run, checks=(*run.checks, *ends))
        if ends[0].verdict == "failed" and run.verdict == "passed":
            run = changed(run, "failed", _said(ends[0]))
    known = {(stranger.port, stranger.pid) for stranger in run.strangers}
    held = [
        each for port in {at.port for at in run.listening} for each in strangers(port) if (port, each.pid) not in known
    ]
    where = ", ".join(str(port) for port in sorted({at.port for at in run.listening}))
    if stopped.left_behind or held:
        left = [could_not_be_ended(stopped.left_behind)] if stopped.left_behind else []
        seen = "; ".join([*left, *(f"port {each.port} held by {holder(each)}" for each in held)])
        verdict: CheckVerdict = "failed"
    else:
        signals = " then ".join(step.signal for step in stopped.steps) or "ended by itself"
        seen = f"{signals}, gone after {stopped.seconds:.2f} s" + (f", port {where} free" if where else "")
        verdict = "passed"
    check = Check(
        name="stops", verdict=verdict, expected="no process left, its ports free", seen=seen, seconds=stopped.seconds
    )
    run = msgspec.structs.replace(run, checks=(*run.checks, check))
    return changed(run, "failed", f"stops: {seen}") if verdict == "failed" else run


def evidence_beside(log: Path | None) -> Callable[[str], Path | None]:
    """Return what gives the file for a proof of some name: it is beside the log of the run."""
    given: Counter[str] = Counter()

    def path(name: str) -> Path | None:
        if log is None:
            return None
        stem, _, ending = name.rpartition(".")
        plain = re.sub(r"[^\w-]+", "-", stem).strip("-")[:60] or "proof"
        given[plain] += 1
        number = f"-{given[plain]}" if given[plain] > 1 else ""
        return log.with_name(f"{log.stem}-{plain}{number}.{ending}")

    return path
