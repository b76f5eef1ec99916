"""A project's run, up for as long as a caller needs it: for integration tests of one's own."""

from __future__ import annotations

import threading
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path

import msgspec

from dokimon.core.faults import Fault
from dokimon.core.jobs.smoke import plan_smoke, run_context_of
from dokimon.core.jobs.verify import Verified, verify
from dokimon.core.planning.plan import Plan
from dokimon.core.processes.output import Output
from dokimon.core.processes.tree import Tree
from dokimon.core.processes.watching import Watcher
from dokimon.core.report.model import Prepared, Run
from dokimon.core.report.outcome import UNMET_VERDICTS, verdict_of_findings
from dokimon.core.smoking.chains import prepare_and_run

_LOOK_EVERY = 0.1


class RunFault(Fault):
    """The run did not get up; `run` is how it went, where it was started at all."""

    def __init__(self, reason: str, run: Run | None = None) -> None:
        source = run.source if run else None
        super().__init__(reason, file=source.file if source else "", line=source.line if source else 1)
        self.run = run


class Running:
    """A run that is up. `url` is its address and `port` the port of that; None where it listens nowhere."""

    def __init__(self, run: Run, output: Output) -> None:
        self.name = run.name
        self.url = run.url
        self.port = next((at.port for at in run.listening if f":{at.port}/" in (run.url or "")), None)
        self._output = output

    @property
    def output(self) -> str:
        """What it has printed so far, as a terminal would show it: the beginning and the end, where it is much."""
        return self._output.text()


@contextmanager
def running(
    folder: Path,
    environment: Mapping[str, str],
    chosen: Sequence[str] = (),
    *,
    prepare: bool = True,
    anyway: bool = False,
) -> Iterator[Running]:
    """Prepare and start a run of the project in `folder`, wait until it is up, and stop it at the end of the block.

    What it comes after is started too. No check is carried out. Raises `RunFault` where a required need is not met
    (unless `anyway`), or where it does not get up; `SettingsFault`, `CatalogueFault` and `PlanFault` as `smoke` does.
    """
    verified = verify(folder, environment)
    if not anyway and verdict_of_findings(verified.findings, strict=False) == "unmet":
        raise RunFault(_unmet(verified))
    plan = plan_smoke(verified, verified.environment, chosen)
    keeper = _Keeper(verified, plan)
    try:
        yield keeper.start(prepare)
    finally:
        keeper.stop()


class _Keeper:
    """Carries the plan out in a thread of its own, and holds it at the moment when the last run is up."""

    def __init__(self, verified: Verified, plan: Plan) -> None:
        bare = tuple(msgspec.structs.replace(run, checks=()) for run in plan.runs)
        self._plan = msgspec.structs.replace(plan, runs=bare, checkout=())
        self._halt = threading.Event()
        self._context = msgspec.structs.replace(run_context_of(verified, self._halt, Watcher()), checking=False)
        self._changed = threading.Event()
        self._enough = threading.Event()
        self._running: Running | None = None
        self._ended: tuple[tuple[Prepared, ...], tuple[Run, ...]] = ((), ())
        self._mistake: BaseException | None = None
        self._thread: threading.Thread | None = None

    def start(self, prepare: bool) -> Running:
        self._thread = threading.Thread(target=self._carry_out, args=(prepare,), name="dokimon-running")
        self._thread.start()
        self._changed.wait()
        if self._running is None:
            self._thread.join()
            if self._mistake:
                raise self._mistake
            raise self._fault()
        return self._running

    def stop(self) -> None:
        self._enough.set()
        if self._running is None:
            self._halt.set()
        if self._thread:
            self._thread.join()

    def _carry_out(self, prepare: bool) -> None:
        try:
            self._ended = prepare_and_run(self._plan, self._context, self._while_up, prepare_first=prepare)
        except BaseException as mistake:  # handed to the caller's thread, whatever it is
            self._mistake = mistake
        finally:
            self._changed.set()

    def _while_up(self, run: Run, tree: Tree) -> None:
        self._running = Running(run, tree.output)
        self._changed.set()
        while not self._enough.wait(_LOOK_EVERY):
            if tree.ended and not tree.processes():
                return

    def _fault(self) -> RunFault:
        steps, runs = self._ended
        for step in steps:
            if step.verdict in ("failed", "unsure"):
                return RunFault(f"the step “{step.title}” {step.reason}{_said(step)}")
        for run in runs:
            if run.verdict != "passed":
                return RunFault(f"{run.name}: {run.reason}{_said(run)}", run)
        if runs:
            return RunFault(f"{runs[-1].name} is a program that {runs[-1].reason}: it is never up", runs[-1])
        return RunFault("nothing was run")


def _said(ended: Run | Prepared) -> str:
    """Return the likely cause and the last lines of what failed, to be shown after the reason."""
    causes = [f"\nlikely cause: {each.cause}" for each in ended.diagnoses[:1]]
    return "".join([*causes, *(f"\n    {line}" for line in ended.last_lines[-5:])])


def _unmet(verified: Verified) -> str:
    unmet = [each for each in verified.findings if each.strength == "required" and each.verdict in UNMET_VERDICTS]
    reasons = [f"{each.tool} {each.verdict}: {each.reason} ({each.source.place})" for each in unmet]
    return "needs are not met, so nothing was run:\n" + "\n".join(f"    {reason}" for reason in reasons)
