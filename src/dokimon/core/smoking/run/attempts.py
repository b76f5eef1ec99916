"""One run from its start to its report; tried once more, with a terminal or a display, where it failed for want of one."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager

import msgspec

from dokimon.core.diagnosis.diagnosing import diagnose_start
from dokimon.core.expressions import expression
from dokimon.core.planning.parts import starts_several
from dokimon.core.planning.plan import RunPlan
from dokimon.core.planning.serving import http_expected, runs_when_opened
from dokimon.core.planning.serving_parts import serving_parts
from dokimon.core.processes.display import has_virtual_display
from dokimon.core.processes.readiness import State
from dokimon.core.processes.tree import StartFault
from dokimon.core.report.model import Run
from dokimon.core.smoking.context import RunContext
from dokimon.core.smoking.run import phases as phase
from dokimon.core.smoking.run.explaining import Explained, explain
from dokimon.core.smoking.run.hearing import hear
from dokimon.core.smoking.run.inputs import Equipment, Inputs, choose_port, inputs_of
from dokimon.core.smoking.run.outcome import Attached, Phases, holder, report_of
from dokimon.core.smoking.run.session import Session, open_run
from dokimon.core.smoking.run.usage import Ended, usage_by_help, usage_of_command


class Attempt:
    """A run that is carried out. `report` is its report at any moment: complete once the block of `carry_out` is left.

    Whoever uses it while it is up sets `is_used`: that it went down meanwhile is then seen. `lacks` is what it failed for
    want of, and is given in the next attempt.
    """

    def __init__(self, inputs: Inputs, context: RunContext, attached: Attached | None) -> None:
        self.inputs = inputs
        self.context = context
        self.phases = Phases(attached=attached)
        self.session: Session | None = None
        self.is_used = False
        self.lacks: Equipment | None = None

    @property
    def report(self) -> Run:
        """What it comes to, as far as it has come."""
        return report_of(self.inputs, self.phases)

    @property
    def is_up(self) -> bool:
        """Whether it was up when it was checked, and lives; nobody asked to stop it."""
        waited = self.phases.waited
        if self.session is None or waited is None or waited.state.how != "up" or self.context.halt.is_set():
            return False
        return not self.session.tree.is_gone()

    @property
    def printed(self) -> str:
        """What it has printed so far."""
        return self.session.tree.output.text() if self.session else ""

    def wait(self, seconds: float) -> bool:
        """Wait until the command itself has ended, at most so long; return whether nothing of it lives on."""
        return self.session is None or (self.session.tree.wait(seconds) and not self.session.tree.processes())

    def add(self, **seen: object) -> None:
        """Add what a phase saw."""
        self.phases = msgspec.structs.replace(self.phases, **seen)


@contextmanager
def carry_out(plan: RunPlan, context: RunContext, attached: Attached | None = None) -> Iterator[Attempt]:
    """Start the run, wait until it is up or over, check it, and watch it; stop it when the block is left."""
    gets = Equipment()
    while True:
        with _attempted(plan, context, gets, attached) as attempt:
            attempt.lacks = _lacking(attempt, gets)
            if attempt.lacks is None:
                yield attempt
        if attempt.lacks is None:
            return
        gets = attempt.lacks


@contextmanager
def _attempted(plan: RunPlan, context: RunContext, gets: Equipment, attached: Attached | None) -> Iterator[Attempt]:
    port = choose_port(plan, context.ports)
    words = _words(plan)
    serves = http_expected(plan.folder, words) if plan.kind != "program" else None
    serving = tuple(each.command for each in serving_parts(plan.folder, words))
    several = starts_several(plan.folder, words) or len(serving) > 1
    inputs = inputs_of(plan, context, port, gets, serves, several, serving, runs_when_opened(words))
    attempt = Attempt(inputs, context, attached)
    try:
        with ExitStack() as running:
            if not (context.halt.is_set() or plan.lacks or (attached and attached.lacks)):
                attempt.session = _started(attempt, running)
            if attempt.session:
                _get_up(attempt, attempt.session)
            yield attempt
            if attempt.session and attempt.is_used:
                attempt.add(used=phase.look_again(attempt.session, _state(attempt)), heard=hear(attempt.session))
        if attempt.session and attempt.lacks is None:
            _finish(attempt, attempt.session)
    finally:
        context.ports.give_back(port.number)


def _words(plan: RunPlan) -> tuple[str, ...]:
    return (plan.command,) if isinstance(plan.command, str) else plan.command


def _started(attempt: Attempt, running: ExitStack) -> Session | None:
    """Start the run within `running`; None where it could not be."""
    inputs, context = attempt.inputs, attempt.context
    watcher = context.watcher
    watcher.stage(inputs.plan.name, f"starting {inputs.shown}")
    for stranger in inputs.port.held:
        watcher.note(f"port {stranger.port} is already held by {holder(stranger)}")
    attempt.add(at_seconds=context.spent)
    try:
        return running.enter_context(open_run(inputs, context))
    except StartFault as fault:
        causes = diagnose_start(inputs.argv[0], str(fault), context.looks)
        attempt.add(not_started=str(fault), explained=Explained(diagnoses=causes))
        return None


def _get_up(attempt: Attempt, session: Session) -> None:
    """The phases before anybody may use the run."""
    plan, watcher = attempt.inputs.plan, attempt.context.watcher
    waited = phase.wait(session)
    attempt.add(waited=waited)
    up_since, state = time.monotonic(), waited.state
    if state.how == "up":
        watcher.stage(plan.name, f"up after {state.seconds:.2f} s" + (f" at {state.shown}" if state.shown else ""))
        for keys in plan.keys:
            session.tree.press(keys)
    attempt.add(checked=phase.check(session, waited))
    # Without a display what draws a window cannot but die.
    if state.how == "up" and attempt.report.verdict != "failed" and (not plan.draws_window or session.display):
        attempt.add(watched=phase.watch(session, state, up_since))
    attempt.add(heard=hear(session))


def _state(attempt: Attempt) -> State:
    assert attempt.phases.waited is not None
    return attempt.phases.waited.state


def _finish(attempt: Attempt, session: Session) -> None:
    """The phases after its end, and what its output says of it."""
    so_far, state = attempt.report, _state(attempt)
    known = {(each.port, each.pid) for each in so_far.strangers}
    ports = {at.port for at in so_far.listening} if so_far.kind == "server" else set[int]()
    attempt.add(ended=phase.end(session, ports, known))
    plan = attempt.inputs.plan
    if state.how == "ended" and plan.kind is None and not attempt.inputs.checks:
        attempt.add(usage=usage_by_help(_over(attempt, session)))
    explained = explain(attempt.report, session.tree.output, attempt.context, plan.folder, session.told)
    failed = plan.is_command and attempt.report.verdict == "failed" and not explained.knows_why
    if state.how == "ended" and failed and not (attempt.phases.heard and attempt.phases.heard.broke):
        usage = usage_of_command(_over(attempt, session))
        attempt.add(usage=usage or attempt.phases.usage)
        explained = msgspec.structs.replace(explained, diagnoses=()) if usage else explained
    attempt.add(explained=explained)


def _over(attempt: Attempt, session: Session) -> Ended:
    inputs, run = attempt.inputs, attempt.report
    return Ended(
        folder=inputs.plan.folder,
        argv=inputs.argv,
        variables=session.variables,
        lines=session.tree.output.kept(),
        exit_status=run.exit_status,
        checks=run.checks,
        halt=attempt.context.halt,
    )


_WANTS_TERMINAL = expression(
    r"(?i)error opening terminal|not (?:a|an interactive) (?:tty|terminal)|stdin is not a|no (?:tty|terminal)"
    r"|must be (?:run|connected) (?:in|from|to) a terminal|inappropriate ioctl|termios\.error|_curses\.error"
)


def _lacking(attempt: Attempt, gets: Equipment) -> Equipment | None:
    """Return what a run that has failed is given once more, for want of which it failed; None where that is nothing."""
    run, session, watcher = attempt.report, attempt.session, attempt.context.watcher
    if run.verdict != "failed" or session is None or attempt.context.halt.is_set():
        return None
    if not attempt.inputs.terminal and any(_WANTS_TERMINAL.search(line) for line in run.last_lines):
        watcher.note("it wants a terminal: it is started once more, with one")
        return msgspec.structs.replace(gets, terminal=True)
    if session.display or gets.display or not has_virtual_display(session.variables):
        return None
    explained = explain(run, session.tree.output, attempt.context, attempt.inputs.plan.folder)
    if not any(each.name == "no-display" for each in explained.diagnoses):
        return None
    watcher.note("it wants a display: it is started once more, with one that nobody sees")
    return msgspec.structs.replace(gets, display=True)
