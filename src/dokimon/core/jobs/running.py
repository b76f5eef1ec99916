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
from dokimon.core.planning.plan import Plan, PlanFault
from dokimon.core.processes.watching import Watcher
from dokimon.core.report.model import Prepared, Run
from dokimon.core.report.outcome import UNMET_VERDICTS, verdict_of_findings
from dokimon.core.smoking.chains import Done, prepare_and_run
from dokimon.core.smoking.run.attempts import Attempt
from dokimon.core.smoking.turn import turn


class RunFault(Fault):
    """The run did not get up; `run` is how it went, where it was started at all."""

    def __init__(self, reason: str, run: Run | None = None) -> None:
        source = run.source if run else None
        super().__init__(reason, file=source.file if source else "", line=source.line if source else 1)
        self.run = run


class Running:
    """A run that is up. `url` is its address and `port` the port of that; None where it listens nowhere."""

    def __init__(self, attempt: Attempt) -> None:
        run = attempt.report
        self.name = run.name
        self.url = run.url
        self.port = next((at.port for at in run.listening if f":{at.port}/" in (run.url or "")), None)
        self._attempt = attempt

    @property
    def output(self) -> str:
        """What it has printed so far, as a terminal would show it: the beginning and the end, where it is much."""
        return self._attempt.printed


@contextmanager
def running(
    folder: Path,
    environment: Mapping[str, str],
    chosen: Sequence[str] = (),
    *,
    prepare: bool = True,
    anyway: bool = False,
    wait: float = 0.0,
) -> Iterator[Running]:
    """Prepare and start a run of the project in `folder`, wait until it is up, and stop it at the end of the block.

    What it comes after is started too. No check is carried out. While the block lasts no other smoke check is at work in
    the checkout; where one is, it is waited for, at most `wait` seconds, which the logger `dokimon` tells. Raises
    `TurnFault` where it is at work still, `RunFault` where a required need is not met (unless `anyway`), or where the run
    does not get up; `SettingsFault` and `CatalogueFault` as `smoke` does, `PlanFault` also where there are several runs
    that none comes after, and none was chosen.
    """
    verified = verify(folder, environment)
    if not anyway and verdict_of_findings(verified.findings, strict=False) == "unmet":
        raise RunFault(_unmet(verified))
    plan = plan_smoke(verified, verified.environment, chosen)
    _refuse_several(plan)
    bare = tuple(msgspec.structs.replace(run, checks=()) for run in plan.runs)
    plan = msgspec.structs.replace(plan, runs=bare, checkout=())
    halt, watcher = threading.Event(), _Logging()
    context = msgspec.structs.replace(run_context_of(verified, halt, Watcher()), checking=False)
    with turn(verified.checkout.root, environment, wait, halt, watcher, "wait=300"):
        with prepare_and_run(plan, context, prepare_first=prepare, stays_up=True) as work:
            if work.up is not None:
                work.up.is_used = True
                yield Running(work.up)
        if work.up is None:
            raise _fault(work.done)


class _Logging(Watcher):
    """Hands on that a turn is waited for to Python's own logging, which a test's output has where it fails."""

    def stage(self, subject: str, doing: str) -> None:
        import logging  # late: it is only wanted where another is at work

        logging.getLogger("dokimon").warning("%s: %s", subject, doing)


def _refuse_several(plan: Plan) -> None:
    """Raise `PlanFault` where it is not plain which run is meant: the last one, which all others come before."""
    before = {name for run in plan.runs for name in run.after}
    last = [run.name for run in plan.runs if run.name not in before]
    if len(last) > 1:
        raise PlanFault(f"there are several runs, and none comes after all others: name one of {', '.join(last)}")


def _fault(done: Done) -> RunFault:
    """Return why nothing is up."""
    for step in done.prepared:
        if step.verdict in ("failed", "unsure"):
            return RunFault(f"the step “{step.title}” {step.reason}{_said(step)}")
    for run in done.runs:
        if run.verdict != "passed":
            return RunFault(f"{run.name}: {run.reason}{_said(run)}", run)
    if done.runs:
        return RunFault(f"{done.runs[-1].name} is a program that {done.runs[-1].reason}: it is never up", done.runs[-1])
    return RunFault("nothing was run")


def _said(ended: Run | Prepared) -> str:
    """Return the likely cause and the last lines of what failed, to be shown after the reason."""
    causes = [f"\nlikely cause: {each.cause}" for each in ended.diagnoses[:1]]
    return "".join([*causes, *(f"\n    {line}" for line in ended.last_lines[-5:])])


def _unmet(verified: Verified) -> str:
    unmet = [each for each in verified.findings if each.strength == "required" and each.verdict in UNMET_VERDICTS]
    reasons = [f"{each.tool} {each.verdict}: {each.reason} ({each.source.place})" for each in unmet]
    return "needs are not met, so nothing was run:\n" + "\n".join(f"    {reason}" for reason in reasons)
