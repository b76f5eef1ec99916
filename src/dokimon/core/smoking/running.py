"""Carrying out one run: start it, know that it is up, check it, stop it."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterable, Mapping
from pathlib import Path
from typing import Any

import msgspec

from dokimon.core.checks.carrying_out import PlannedCheck, carry_out_checks
from dokimon.core.checks.context import CheckContext, Cookies
from dokimon.core.checks.window import Window
from dokimon.core.diagnosis.diagnosing import Look, diagnose, diagnose_start, notice
from dokimon.core.expressions import expression
from dokimon.core.machine.asking import Asker
from dokimon.core.planning.plan import RunPlan, argv_of, shown
from dokimon.core.processes.display import VirtualDisplay
from dokimon.core.processes.exit_status import how_ended
from dokimon.core.processes.logs import Logs
from dokimon.core.processes.masking import secrets_in
from dokimon.core.processes.output import Output
from dokimon.core.processes.ports import Ports
from dokimon.core.processes.readiness import Awaited, State, wait_until_up
from dokimon.core.processes.sockets import listeners, strangers
from dokimon.core.processes.stopping import stop
from dokimon.core.processes.tree import StartFault, Tree
from dokimon.core.processes.watching import Watcher
from dokimon.core.report.model import Diagnosis, Listening, Run, Stranger
from dokimon.core.smoking.checking import (
    LAST_LINES,
    ContextOf,
    after_stop,
    changed,
    check_server,
    evidence_beside,
    holder,
    judge_start,
)
from dokimon.core.smoking.usage import look_at_command, look_at_help
from dokimon.core.words import filled

WhileUp = Callable[[Run, Tree], None]
"""Called with a run that is up and checked: what comes after it, or somebody who wants to look at it, has its turn."""


class RunContext(msgspec.Struct, frozen=True, kw_only=True):
    """What a run is carried out in: the variables, who may halt it, who hears of it, where its output is kept.

    `root` is that of the checkout. `facts` are the values that checks have found out, by run and name.
    `words` fill braces in commands and variables of runs that come after others: `{tides.url}`, `{tides.port}`.
    `looks` are what a diagnosis can be made fuller with. Without `checking` a run that is up is only kept up.
    `ports` are those that smoke checks side by side give out together. `begun` is when all this began (`time.monotonic`).
    """

    environment: Mapping[str, str]
    halt: threading.Event
    watcher: Watcher
    logs: Logs
    root: Path
    facts: dict[tuple[str, str], Any] = msgspec.field(default_factory=dict)
    words: Mapping[str, str] = {}
    looks: Mapping[str, Look] = {}
    checking: bool = True
    ports: Ports = msgspec.field(default_factory=Ports)
    begun: float = msgspec.field(default_factory=time.monotonic)

    @property
    def spent(self) -> float:
        """The seconds since all this began."""
        return round(time.monotonic() - self.begun, 3)


def carry_out(plan: RunPlan, context: RunContext, while_up: WhileUp | None = None) -> Run:
    """Start the run, wait until it is up, check it, let `while_up` have its turn, stop it, and say how all that went."""
    port, held = _choose_port(plan, context.ports)
    words = {**plan.words, **context.words, **({"port": str(port)} if port is not None else {})}
    argv = argv_of(plan.command, words)
    text = plan.shown_as or shown(plan.command, plan.folder, words)
    run = Run(
        name=plan.name,
        command=text,
        kind=plan.kind or "unknown",
        verdict="unsure",
        reason="interrupted",
        source=plan.source,
        strangers=held,
        exposure_meant=plan.expose,
    )
    watcher = context.watcher
    if context.halt.is_set():
        return run
    if plan.lacks:
        return changed(run, "unsure", plan.lacks)
    watcher.stage(plan.name, f"starting {text}")
    for stranger in held:
        watcher.note(f"port {stranger.port} is already held by {holder(stranger)}")
    variables = {name: filled(value, context.words) for name, value in plan.environment.items()}
    variables = {**context.environment, **variables, **({"PORT": str(port)} if plan.port == "any" else {})}
    output = Output(
        watcher.line,
        context.logs.path(plan.name),
        secrets_in(variables, context.root),
        watcher.follower(plan.name),
        context.logs.largest,
    )
    display = None
    if plan.draws_window and not variables.get("DISPLAY"):
        display = VirtualDisplay.start(variables, context.halt)
        variables = {**variables, **({"DISPLAY": display.name} if display else {})}
    try:
        run = _carried_out(run, plan, argv, variables, output, context, port, while_up)
    finally:
        if display:
            display.close()
        context.ports.give_back(port)
    return _with_what_it_lacked(run, plan, variables, context, while_up)


_WANTS_TERMINAL = expression(
    r"(?i)error opening terminal|not (?:a|an interactive) (?:tty|terminal)|stdin is not a|no (?:tty|terminal)"
    r"|must be (?:run|connected) (?:in|from|to) a terminal|inappropriate ioctl|termios\.error|_curses\.error"
)


def _with_what_it_lacked(
    run: Run, plan: RunPlan, variables: Mapping[str, str], context: RunContext, while_up: WhileUp | None
) -> Run:
    """Start a run once more that has failed for want of a terminal or a display, with one."""
    if run.verdict != "failed" or context.halt.is_set():
        return run
    if not plan.terminal and any(_WANTS_TERMINAL.search(line) for line in run.last_lines):
        context.watcher.note("it wants a terminal: it is started once more, with one")
        return carry_out(msgspec.structs.replace(plan, terminal=True), context, while_up)
    lacks_display = not variables.get("DISPLAY") and any(each.name == "no-display" for each in run.diagnoses)
    display = VirtualDisplay.start(variables, context.halt) if lacks_display else None
    if display is None:
        return run
    try:
        context.watcher.note("it wants a display: it is started once more, with one that nobody sees")
        environment = {**plan.environment, "DISPLAY": display.name}
        checks = plan.checks or (PlannedCheck(Window()),)
        return carry_out(msgspec.structs.replace(plan, environment=environment, checks=checks), context, while_up)
    finally:
        display.close()


def _has_window(run: Run, plan: RunPlan) -> bool:
    return plan.draws_window or any(check.kind == "window" for check in run.checks)


def _by_its_window(run: Run, plan: RunPlan, state: State, display: str | None, check_context: ContextOf) -> Run:
    """Look for the window of a run that does nothing else to be seen; without one, it stays what it was."""
    silent = state.settled is not None and state.settled.how == "silent"
    if not silent or not display or plan.checks or run.verdict != "unsure":
        return run
    found = carry_out_checks((PlannedCheck(Window(within="2s")),), check_context()) or ()
    if not any(check.verdict == "passed" for check in found):
        return run
    return changed(
        run, "passed", "it draws a window", kind="server", up_by="it draws a window of its own", checks=found
    )


def _carried_out(
    run: Run, plan: RunPlan, argv: list[str], variables: Mapping[str, str], output: Output, context: RunContext,
    port: int | None, while_up: WhileUp | None,
) -> Run:  # fmt: skip
    watcher = context.watcher
    keyboard = bool(plan.keys or plan.stop)
    started = time.monotonic()
    run = msgspec.structs.replace(run, at_seconds=context.spent)
    try:
        tree = Tree.start(argv, plan.folder, variables, output, terminal=plan.terminal, keyboard=keyboard)
    except StartFault as fault:
        output.close()
        run = changed(run, "failed", f"could not be started: {fault}")
        return msgspec.structs.replace(run, diagnoses=diagnose_start(argv[0], str(fault), context.looks))
    check_context = _check_contexts(plan, context, variables, tree, port)
    try:
        awaited = Awaited(
            within=plan.within,
            port=port,
            line=plan.up_line,
            file=plan.up_file,
            get=plan.up_get,
            serves=plan.asks_server,
            ends=plan.kind == "program",
            draws=plan.draws_window,
            is_server=plan.kind == "server",
            builds=Path(argv[0]).name in _BUILDERS or any("gradlew" in word or "mvnw" in word for word in argv[:2]),
        )
        state = wait_until_up(tree, awaited, context.halt)
        run = judge_start(run, plan, state, tree, check_context)
        run = _by_its_window(run, plan, state, variables.get("DISPLAY"), check_context)
        up_at = time.monotonic()
        if state.how == "up":
            watcher.stage(plan.name, f"up after {state.seconds:.2f} s" + (f" at {state.shown}" if state.shown else ""))
            for keys in plan.keys:
                tree.press(keys)
            if context.checking:
                checked_from = time.monotonic() - started
                run = check_server(run, plan, state, tree, context.halt, check_context)
                run = msgspec.structs.replace(
                    run,
                    answered_seconds=_answered(run, state, checked_from),
                    checked_seconds=round(time.monotonic() - started, 3),
                )
            else:
                run = msgspec.structs.replace(run, listening=listeners(tree.processes()))
            if not plan.draws_window or variables.get("DISPLAY"):  # without a display it cannot but die
                run = _watched(run, tree, state, context.halt, up_at)
                run = msgspec.structs.replace(run, watched_seconds=round(time.monotonic() - up_at, 3))
            if while_up and not tree.is_gone() and not context.halt.is_set():
                while_up(run, tree)  # also when a check failed: that is when one wants to look
                if not context.halt.is_set() and (went := _went_down(tree, state.at)):
                    run = changed(run, "failed", f"{went} after it was up", last_lines=tree.output.last(LAST_LINES))
        watcher.stage(plan.name, "stopping")
        run = after_stop(run, plan, stop(tree, plan.stop, at_terminal=not _has_window(run, plan)), tree)
        run = msgspec.structs.replace(run, ended_seconds=round(time.monotonic() - started, 3))
    finally:
        tree.close()
    if state.how == "ended" and plan.kind is None and not plan.checks:
        run = look_at_help(run, plan.folder, argv, variables, output.kept(), context.halt)
    explained = _explained(run, output, context.looks)
    if run.verdict == "failed" and state.how == "ended" and plan.is_command and not _known(explained):
        return look_at_command(explained, plan.folder, argv, variables, output.kept(), context.halt)
    return explained


def _answered(run: Run, state: State, checked_from: float) -> float | None:
    """Return the seconds from the start of a run to its first answer over HTTP; None where it gave none."""
    if state.answered:
        return run.up_seconds
    firsts = [check.seconds for check in run.checks if check.grade and check.seconds is not None]
    return round(checked_from + min(firsts), 3) if firsts else None


def _known(run: Run) -> bool:
    return any(each.name != "not-known" for each in run.diagnoses)


def _explained(run: Run, output: Output, looks: Mapping[str, Look]) -> Run:
    """Return the run with what its output says of it: why it failed, or which error it went on in spite of."""
    went_on = run.verdict == "passed" and run.kind == "server"
    return msgspec.structs.replace(
        run,
        log=str(output.log) if output.log else None,
        log_left_out=output.left_out or None,
        warnings=output.warnings or None,
        diagnoses=_causes(output, run, looks) if run.verdict == "failed" else (),
        noticed=notice(output.kept(), looks) if went_on else (),
    )


def _causes(output: Output, run: Run, looks: Mapping[str, Look]) -> tuple[Diagnosis, ...]:
    """Return the likely causes of a failure; that there is no .env, where an example of one lies, is always among them."""
    found = diagnose(output.kept(), run.exit_status, looks, went_on=run.up_by is not None)
    copies = looks["example"]({}) if "example" in looks else ()
    if not copies or any(each.name == "dotenv-missing" for each in found):
        return found
    cause = "there is no .env, though an example of one is there"
    return (*found, Diagnosis(name="dotenv-missing", cause=cause, remedies=tuple(copies)))


_BUILDERS = frozenset(
    {"go", "cargo", "mvn", "gradle", "dotnet", "mix", "swift", "stack", "cabal", "sbt", "flutter", "dart"}
)
"""Commands that fetch and compile before they start what they are for."""

WATCHED_SECONDS = 2.0
"""How long a run is watched after it was up: some die of what they find out only then."""

_AFTER_CHECKS = 0.25
"""How long it is watched after its checks in any case: it may die of what they asked."""


def _watched(run: Run, tree: Tree, state: State, halt: threading.Event, up_at: float) -> Run:
    """Watch a run that is up since `up_at` (`time.monotonic`) for a moment longer; one that dies meanwhile has failed."""
    until = max(up_at + WATCHED_SECONDS, time.monotonic() + _AFTER_CHECKS)
    while run.verdict != "failed" and not halt.is_set() and (left := until - time.monotonic()) > 0:
        if tree.wait(min(left, 0.1)):
            time.sleep(0.05)
        if tree.is_gone() or (tree.ended and state.at is None):
            went = f"{how_ended(tree.exit_status)} within {WATCHED_SECONDS:g} s after it was up"
            last = tree.output.last(LAST_LINES)
            return changed(run, "failed", went, last_lines=last, exit_status=tree.exit_status)
    return run


def _went_down(tree: Tree, at: Listening | None) -> str | None:
    """Return what became of a run that was up and is no longer, in words; None while it is.

    A shell around it may live a moment longer than the server: that this listens no more is seen first.
    """
    if tree.is_gone():
        return how_ended(tree.exit_status)
    if at is None or _listens(tree, at) or (not tree.wait(1.0) and _listens(tree, at)):
        return None  # one that starts again, since its files changed, listens again a moment later
    return how_ended(tree.exit_status) if tree.ended else "no longer listens"


def _listens(tree: Tree, at: Listening) -> bool:
    return any(each.port == at.port for each in listeners(tree.processes()))


def _check_contexts(
    plan: RunPlan, context: RunContext, variables: Mapping[str, str], tree: Tree, port: int | None
) -> ContextOf:
    """Return what makes the check_context of the run's checks, once more is known of it."""
    cookies, evidence = Cookies(), evidence_beside(context.logs.path(plan.name))

    def check_context(**more: Any) -> CheckContext:
        url = (more.get("origin") or "").rstrip("/")
        words = {**context.words, **({"port": str(port)} if port is not None else {}), **({"url": url} if url else {})}
        return CheckContext(
            name=plan.name,
            root=context.root,
            environment=variables,
            halt=context.halt,
            output=tree.output,
            facts=context.facts,
            evidence=evidence,
            listening=lambda: listeners(tree.processes()),
            processes=tree.processes,
            asker=Asker(variables, context.root),
            cookies=cookies,
            words=words,
            display=variables.get("DISPLAY"),
            **more,
        )

    return check_context


def _choose_port(plan: RunPlan, ports: Ports) -> tuple[int | None, tuple[Stranger, ...]]:
    """Return the port that the run is given or expected on, and who holds it already."""
    if plan.port is None:
        return None, ()
    if plan.port == "any":
        return ports.free(), ()
    held = strangers(plan.port)
    is_free = not held and (not plan.may_move or ports.claim(plan.port))
    return (plan.port if is_free or not plan.may_move else ports.free(plan.port)), held


def own_choices(plans: Iterable[RunPlan]) -> list[int | None]:
    """Return the ports that runs take without being told; what Dokimon chooses for them is not among these."""
    return [None if each.port == "any" else each.port for each in plans if each.picks_own_port]
