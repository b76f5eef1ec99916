"""A run between its start and its end: `with open_run(…) as session`. However the block is left, nothing of it lives on."""

from __future__ import annotations

import re
import time
from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from contextlib import ExitStack, contextmanager
from pathlib import Path
from threading import Event

from dokimon.core.checks.context import CheckContext, Cookies
from dokimon.core.machine.asking import Asker
from dokimon.core.planning.plan import shown
from dokimon.core.processes.candidates import Known
from dokimon.core.processes.display import VirtualDisplay
from dokimon.core.processes.masking import secrets_in
from dokimon.core.processes.output import Output
from dokimon.core.processes.printed import printed_in
from dokimon.core.processes.sockets import listeners_of
from dokimon.core.processes.stopping import Stopped, stop
from dokimon.core.processes.systems.face import is_held
from dokimon.core.processes.to_end import run_to_end
from dokimon.core.processes.tree import StartFault, Tree
from dokimon.core.report.model import Listening
from dokimon.core.smoking.context import RunContext
from dokimon.core.smoking.run.inputs import Inputs


class Session:
    """A run that was started. `began` is when (`time.monotonic`); `stopped` and `ended_seconds` are known once it is over.

    `told` are the words of answers that were not what they should be. What `draws_window` is not sent what Ctrl+C in a
    terminal sends.
    """

    def __init__(self, inputs: Inputs, context: RunContext, tree: Tree, variables: Mapping[str, str]) -> None:
        self.inputs = inputs
        self.context = context
        self.tree = tree
        self.variables = variables
        self.draws_window = inputs.plan.draws_window
        self.began = time.monotonic()
        self.stopped: Stopped | None = None
        self.ended_seconds: float | None = None
        self.told: list[str] = []
        self._cookies = Cookies()
        self._evidence = evidence_beside(context.logs.path(inputs.plan.name))

    @property
    def display(self) -> str | None:
        """The display that it draws on."""
        return self.variables.get("DISPLAY")

    @property
    def spent(self) -> float:
        """The seconds since its start."""
        return round(time.monotonic() - self.began, 3)

    def listening(self) -> tuple[Listening, ...]:
        """The sockets on which its processes listen now."""
        return listeners_of(self.tree)

    def known_ports(self) -> Known:
        """What is known of its ports by now."""
        printed = printed_in(self.tree.output.kept())
        return Known(self.inputs.port.number, self.inputs.declared_ports, printed, len(self.inputs.serving_parts))

    def check_context(
        self, *, origin: str | None = None, ended: tuple[int | None, float] | None = None
    ) -> CheckContext:
        """Return what its checks may look at: its own address, or how it ended."""
        url = (origin or "").rstrip("/")
        return CheckContext(
            name=self.inputs.plan.name,
            root=self.context.root,
            environment=self.variables,
            halt=self.context.halt,
            output=self.tree.output,
            facts=self.context.facts,
            evidence=self._evidence,
            listening=self.listening,
            processes=self.tree.processes,
            asker=Asker(self.variables, self.context.root),
            cookies=self._cookies,
            told=self.told,
            words={**self.inputs.words, **({"url": url} if url else {})},
            display=self.display,
            origin=origin,
            ended=ended,
            may_render=self.context.may_render,
        )


@contextmanager
def open_run(inputs: Inputs, context: RunContext) -> Iterator[Session]:
    """Start a run, with a display of its own where it needs one; stop it when the block is left. Raises `StartFault`."""
    plan = inputs.plan
    with ExitStack() as closing:
        variables = dict(inputs.variables)
        if inputs.own_display and (display := VirtualDisplay.start(variables, context.halt)):
            closing.callback(display.close)
            variables["DISPLAY"] = display.name
        output = output_of(plan.name, plan.name, variables, context)
        published = frozenset(port for port in plan.published if not is_held(port))
        closing.callback(_afterwards, inputs, context, variables)
        try:
            tree = Tree.start(
                inputs.argv, plan.folder, variables, output, terminal=inputs.terminal, keyboard=inputs.keyboard
            )
        except StartFault:
            output.close()
            raise
        tree.published = published
        closing.callback(tree.close)
        session = Session(inputs, context, tree, variables)
        try:
            yield session
        finally:
            session.stopped = stop(tree, plan.stop, at_terminal=not session.draws_window)
            session.ended_seconds = session.spent


_AFTERWARDS_SECONDS = 60.0


def _afterwards(inputs: Inputs, context: RunContext, variables: Mapping[str, str]) -> None:
    """Carry out what brings down what a run leaves in the hands of others: its containers."""
    plan = inputs.plan
    if not plan.afterwards:
        return
    output = output_of(plan.name, f"{plan.name}-afterwards", variables, context)
    try:
        end = run_to_end(plan.afterwards, plan.folder, variables, output, _AFTERWARDS_SECONDS, Event())
    except StartFault as fault:
        context.watcher.note(f"{shown(plan.afterwards, plan.folder)}: {fault}")
        return
    if end.status:
        context.watcher.note(f"{shown(plan.afterwards, plan.folder)}: {end.reason}")


def output_of(name: str, log: str, variables: Mapping[str, str], context: RunContext) -> Output:
    """Return what keeps the output of something of a smoke check, without its secrets; `name` is what a listener hears."""
    return Output(
        context.watcher.line,
        context.logs.path(log),
        secrets_in(variables, context.root),
        context.watcher.follower(name),
        context.logs.largest,
    )


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
