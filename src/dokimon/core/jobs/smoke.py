"""`dokimon smoke`: does the project start here?"""

from __future__ import annotations

import threading
import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path

import msgspec

from dokimon.core.jobs.needs import projects_of
from dokimon.core.jobs.options import SmokeOptions
from dokimon.core.jobs.recording import Recorder
from dokimon.core.jobs.verify import Verified, verify
from dokimon.core.measures import bytes_of
from dokimon.core.planning.making import make_plan
from dokimon.core.planning.plan import Plan, PlanContext, PlanFault, PrepareStep, Rank, RunPlan, shown
from dokimon.core.processes.log_file import LARGEST_BYTES
from dokimon.core.processes.logs import Logs
from dokimon.core.processes.masking import Mask, secrets_in
from dokimon.core.processes.watching import MaskingWatcher, Watcher
from dokimon.core.report.model import FORMAT, FORMAT_MINOR, Planned, PlannedRun, PlannedStep, Report
from dokimon.core.report.outcome import UNMET_VERDICTS, verdict_of_findings, verdict_of_smoke
from dokimon.core.report.timeline import own_seconds
from dokimon.core.smoking.chains import Done, carry_out_plan
from dokimon.core.smoking.context import AFTER_CHECKS_SECONDS, WATCHED_SECONDS, RunContext
from dokimon.core.smoking.looking_up import looks
from dokimon.core.smoking.masked import masked
from dokimon.core.smoking.run.attempts import Attempt
from dokimon.core.smoking.turn import turn


class Smoke:
    """A smoke check at work. In the block `up` is the last run, where it is kept up; after it `report` is complete."""

    def __init__(self) -> None:
        self.up: KeptUp | None = None
        self.report: Report


class KeptUp:
    """A run that stays up for somebody to look at; `report` is what was seen of it so far, without secrets."""

    def __init__(self, attempt: Attempt, secrets: Iterable[bytes]) -> None:
        attempt.is_used = True
        self._attempt = attempt
        self.report = masked(attempt.report, secrets)

    def wait(self, seconds: float) -> bool:
        """Wait until it is over, at most so long; return whether it is."""
        return self._attempt.wait(seconds)


def smoke(
    folder: Path,
    environment: Mapping[str, str],
    options: SmokeOptions,
    halt: threading.Event,
    watcher: Watcher,
) -> Report:
    """Verify, prepare, run, check and stop; return the report. Raises what `smoking` raises."""
    with smoking(folder, environment, options, halt, watcher) as work:
        pass
    return work.report


@contextmanager
def smoking(
    folder: Path,
    environment: Mapping[str, str],
    options: SmokeOptions,
    halt: threading.Event,
    watcher: Watcher,
) -> Iterator[Smoke]:
    """Verify, prepare, run and check; stop all of it after the block. Setting `halt` stops everything in good order.

    `watcher` hears of the work as it goes. Raises `SettingsFault`, `CatalogueFault`, `PlanFault` and `TurnFault`.
    """
    begun = time.monotonic()
    watcher.stage("verify", "reading the checkout and asking this machine's tools")
    verified = verify(folder, environment, pick=options.pick, may_ask=options.may_ask)
    verify_seconds = round(time.monotonic() - begun, 3)
    recorder = Recorder(verified, keeping=options.record) if options.record or options.share else None
    work = Smoke()
    if verdict_of_findings(verified.findings, options.strict) != "met" and not options.anyway:
        yield work
        report = smoke_report(verified, Done(), strict=options.strict, interrupted=halt.is_set(), stopped_early=True)
        plan = _plan_or_none(verified, options) if recorder else Plan()
    else:
        plan = plan_smoke(verified, verified.environment, options.runs, every=options.every)
        context = run_context_of(verified, halt, watcher, begun)
        context = msgspec.structs.replace(
            context, may_render=options.render, **({"ports": options.ports} if options.ports else {})
        )
        with turn(verified.checkout.root, environment, options.wait_seconds, halt, watcher):
            if recorder:
                context = msgspec.structs.replace(context, unchanged=recorder.unchanged)
                recorder.begin(plan)
            with carry_out_plan(plan, context, prepare_first=options.prepare, stays_up=options.keep) as carried:
                if options.keep and carried.up:
                    work.up = KeptUp(carried.up, secrets_in(verified.environment, verified.checkout.root))
                yield work
        report = smoke_report(
            verified, carried.done, strict=options.strict, interrupted=halt.is_set(), others=plan.others
        )
    spent = round(time.monotonic() - begun, 3)
    report = msgspec.structs.replace(report, seconds=spent, verify_seconds=verify_seconds)
    report = msgspec.structs.replace(report, own_seconds=own_seconds(report))
    work.report = _recorded(report, recorder, plan, watcher, share=options.share) if recorder else report


def _plan_or_none(verified: Verified, options: SmokeOptions) -> Plan:
    """Return what would be carried out, were all needs met: a record says what runs would be given."""
    try:
        return plan_smoke(verified, verified.environment, options.runs, every=options.every)
    except PlanFault:
        return Plan()


def _recorded(report: Report, recorder: Recorder, plan: Plan, watcher: Watcher, *, share: bool) -> Report:
    """Keep a record of the report; return it with what is other than when it last passed, where it does not now."""
    given = {name: value for run in plan.runs for name, value in run.environment.items()}
    report = recorder.told(report, given)
    recorder.keep()
    for note in recorder.notes:
        watcher.note(note)
    return recorder.shared(report, given) if share else report


def plan_smoke(
    verified: Verified, environment: Mapping[str, str], chosen: Sequence[str], *, every: bool = False
) -> Plan:
    """Return the plan for the verified checkout; raises `PlanFault` when there is none, or none without a choice.

    With `every`, all ways to start it are carried out, one after the other.
    """
    try:
        return make_plan(plan_context_of(verified, environment), verified.workspace.settings, chosen, every=every)
    except PlanFault as fault:
        below = projects_of(verified.declared)
        if not below:
            raise
        raise PlanFault(f"{fault.reason.partition(chr(10))[0]}\n{projects_in_words(below)}") from None


def projects_in_words(below: Sequence[str]) -> str:
    """Say which projects are below a folder that is not one itself, and how to go on."""
    listed = ", ".join(below[:8]) + (f" and {len(below) - 8} more" if len(below) > 8 else "")
    return f"This folder is not a project, but contains some: {listed}. Name one, for example: dokimon smoke {below[0]}"


def plan_context_of(verified: Verified, environment: Mapping[str, str]) -> PlanContext:
    """Return what planners need to know of the verified checkout."""
    reached = {tool: copy.path for tool, copies in verified.installations.items() for copy in copies if copy.reached}
    # Where another command of a tool meets its needs (`python3`), that is the one to call.
    met = {each.tool: each.found.path for each in verified.findings if each.verdict == "met" and each.found}
    paths = {copy.path: tool for tool, copies in verified.installations.items() for copy in copies if copy.other_name}
    reached |= {tool: path for tool, path in met.items() if paths.get(path) == tool}
    checkout = verified.checkout
    return PlanContext(root=checkout.root, folder=checkout.project, environment=dict(environment), tools=reached)


def run_context_of(
    verified: Verified, halt: threading.Event, watcher: Watcher, begun: float | None = None
) -> RunContext:
    """Return what the runs of this checkout are carried out in; `begun` is when the whole work began, if before now."""
    root, environment = verified.checkout.root, verified.environment
    watched = _watched_seconds(environment)
    largest = verified.workspace.settings.project.largest_log
    return RunContext(
        environment=environment,
        halt=halt,
        watcher=MaskingWatcher(watcher, Mask(secrets_in(environment, root))),
        logs=Logs(root, environment, bytes_of(largest) if largest else LARGEST_BYTES),
        root=root,
        begun=time.monotonic() if begun is None else begun,
        watched_seconds=watched,
        after_checks_seconds=min(watched, AFTER_CHECKS_SECONDS),
        unmet=tuple(each for each in verified.findings if each.verdict in UNMET_VERDICTS),
        looks=looks(
            environment, root, verified.workspace.catalogue, verified.declared.requirements, verified.checkout.project
        ),
    )


def _watched_seconds(environment: Mapping[str, str]) -> float:
    """How long a run is watched after it was up; `DOKIMON_WATCHED_SECONDS` says otherwise, for tests of Dokimon itself."""
    try:
        return float(environment.get("DOKIMON_WATCHED_SECONDS", WATCHED_SECONDS))
    except ValueError:
        return WATCHED_SECONDS


def plan_report(verified: Verified, plan: Plan) -> Report:
    """Return the report of `dokimon smoke --show-plan`: what would be done, and where each part was read."""
    root = verified.checkout.root
    return Report(
        format=FORMAT,
        minor=FORMAT_MINOR,
        command="smoke",
        verdict=verdict_of_findings(verified.findings, strict=False),
        project=verified.workspace.project,
        requirements=verified.findings,
        plan=Planned(
            prepare=tuple(_planned_step(step, root) for step in plan.prepare),
            runs=tuple(_planned_run(run, root) for run in plan.runs),
            others=tuple(_planned_run(run, root) for run in plan.others),
        ),
    )


def _planned_step(step: PrepareStep, root: Path) -> PlannedStep:
    return PlannedStep(
        title=step.title,
        command=shown(step.command, step.folder, step.words),
        needed=step.needed,
        source=step.source,
        folder=_below(step.folder, root),
    )


def _planned_run(run: RunPlan, root: Path) -> PlannedRun:
    return PlannedRun(
        name=run.name,
        command=run.in_words,
        source=run.source,
        kind=run.kind,
        port=run.port,
        after=run.after,
        checks=tuple(each.title for each in run.checks),
        folder=_below(run.folder, root),
        proposal=run.rank >= Rank.PROPOSAL,
    )


def _below(folder: Path, root: Path) -> str | None:
    """Return the folder relative to the root, None for the root itself."""
    if folder == root or not folder.is_relative_to(root):
        return None
    return folder.relative_to(root).as_posix()


def smoke_report(
    verified: Verified,
    done: Done,
    *,
    strict: bool,
    interrupted: bool,
    stopped_early: bool = False,
    others: Sequence[RunPlan] = (),
) -> Report:
    """Return the report of `dokimon smoke`. With `stopped_early` nothing was run, because a need is not met."""
    if stopped_early:
        verdict = verdict_of_findings(verified.findings, strict)
    else:
        verdict = verdict_of_smoke(done.prepared, done.runs, done.checks, strict=strict)
        if not done.runs and verdict == "passed":
            verdict = "unsure"
    report = Report(
        format=FORMAT,
        minor=FORMAT_MINOR,
        command="smoke",
        verdict=verdict,
        strict=strict,
        project=verified.workspace.project,
        requirements=verified.findings,
        installations=tuple(copy for copies in verified.installations.values() for copy in copies),
        components=verified.survey.components,
        picked=verified.picked,
        picked_variables=dict(verified.variables),
        prepared=done.prepared,
        runs=done.runs,
        other_ways=tuple(_planned_run(run, verified.checkout.root) for run in others),
        checks=done.checks,
        changed_files=done.changed_files,
        interrupted=interrupted,
    )
    return masked(report, secrets_in(verified.environment, verified.checkout.root))
