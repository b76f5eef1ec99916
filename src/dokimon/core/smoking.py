"""The second of Dokimon's two questions: does the project start here?"""

from __future__ import annotations

import threading
from collections.abc import Mapping, Sequence
from pathlib import Path

import msgspec

from dokimon.core.checks import checkout
from dokimon.core.checks.carrying_out import title_of
from dokimon.core.launching.logs import Logs
from dokimon.core.launching.preparing import prepare
from dokimon.core.launching.running import Surroundings, WhileUp
from dokimon.core.launching.targets import carry_out_on_targets
from dokimon.core.launching.tree import Tree
from dokimon.core.launching.watching import Watcher
from dokimon.core.looking_up import looks
from dokimon.core.planning import make_plan
from dokimon.core.planning.plan import Plan, RunPlan, Setting, shown
from dokimon.core.report.model import FORMAT, Check, Planned, PlannedRun, PlannedStep, Prepared, Report, Run
from dokimon.core.report.outcome import verdict_of_findings, verdict_of_smoke
from dokimon.core.seen import remember
from dokimon.core.verifying import Verified, catalogue_for, project_of


class Done(msgspec.Struct, frozen=True):
    """What a smoke check did: the steps, the runs, what was seen of the checkout when all was over."""

    prepared: tuple[Prepared, ...] = ()
    runs: tuple[Run, ...] = ()
    checks: tuple[Check, ...] = ()
    changed_files: tuple[str, ...] = ()


def plan_smoke(
    verified: Verified, environment: Mapping[str, str], chosen: Sequence[str], *, every: bool = False
) -> Plan:
    """Return the plan for the verified checkout; raises `PlanFault` when there is none, or none without a choice.

    With `every`, all ways to start it are carried out, one after the other.
    """
    return make_plan(setting_of(verified, environment), verified.settings, chosen, every=every)


def setting_of(verified: Verified, environment: Mapping[str, str]) -> Setting:
    """Return what planners are told of the verified checkout."""
    reached = {tool: copy.path for tool, copies in verified.installations.items() for copy in copies if copy.reached}
    found = verified.checkout
    return Setting(found.root, found.project, dict(environment), reached)


def surroundings(verified: Verified, halt: threading.Event, watcher: Watcher) -> Surroundings:
    """Return what the runs of this checkout are carried out in."""
    root, environment = verified.checkout.root, verified.environment
    catalogue = catalogue_for(verified.settings, environment)
    return Surroundings(
        environment, halt, watcher, Logs(root, environment), root, looks=looks(environment, root, catalogue)
    )


def plan_report(verified: Verified, plan: Plan) -> Report:
    """Return the report of `dokimon smoke --show-plan`: what would be done, and where each part was read."""
    return Report(
        format=FORMAT,
        command="smoke",
        verdict=verdict_of_findings(verified.findings, strict=False),
        project=project_of(verified.declared),
        requirements=verified.findings,
        plan=Planned(
            tuple(
                PlannedStep(
                    step.title, shown(step.command, step.folder), step.needed, step.source, _in(step.folder, verified)
                )
                for step in plan.prepare
            ),
            tuple(
                PlannedRun(
                    run.name, run.in_words, run.source, run.kind, run.port, run.after,
                    tuple(title_of(each) for each in run.checks), _in(run.folder, verified),
                )
                for run in plan.runs
            ),
        ),
    )  # fmt: skip


def _in(folder: Path, verified: Verified) -> str | None:
    below = (
        folder.relative_to(verified.checkout.root).as_posix() if folder.is_relative_to(verified.checkout.root) else "."
    )
    return None if below == "." else below


def smoke(plan: Plan, around: Surroundings, while_up: WhileUp | None = None, *, prepare_first: bool = True) -> Done:
    """Carry out the plan until a step fails or it is halted; return what there was.

    Without `prepare_first` no step is done, and those that are needed are told. With `while_up`, programs that end by
    themselves come first, and it has its turn while the last run is up.
    """
    before = checkout.looked_at(around.root, around.environment)
    prepared, runs = _prepared_and_run(plan, around, while_up, prepare_first)
    remember(runs, around.root, around.logs)
    after = before if isinstance(before, str) else checkout.looked_at(around.root, around.environment)
    wanted = [each.wanted for each in plan.checkout if isinstance(each.wanted, checkout.CleanCheckout)]
    return Done(prepared, runs, tuple(checkout.compared(wanted, before, after)), checkout.changed(before, after))


def _prepared_and_run(
    plan: Plan, around: Surroundings, while_up: WhileUp | None, prepare_first: bool
) -> tuple[tuple[Prepared, ...], tuple[Run, ...]]:
    prepared: list[Prepared] = []
    for step in plan.prepare:
        if around.halt.is_set():
            break
        if step.needed and not prepare_first:
            reason = f"left out, though it is needed: {step.needed}"
            prepared.append(
                Prepared(step.title, "skipped", reason, shown(step.command, step.folder), source=step.source)
            )
            continue
        prepared.append(prepare(step, around))
        if prepared[-1].verdict in ("failed", "unsure"):
            return tuple(prepared), ()
    chains = _chains(plan.runs)
    if while_up:
        chains.sort(key=lambda chain: chain[-1].kind != "program")
    runs: list[Run] = []
    for chain in chains:
        if around.halt.is_set():
            break
        _carry_out(chain, around, runs, while_up if chain is chains[-1] else None)
    order = [each.name for each in plan.runs]
    # A run on several targets is named after each of them.
    places = {run.name: order.index(run.name if run.name in order else run.name.rpartition("@")[0]) for run in runs}
    return tuple(prepared), tuple(sorted(runs, key=lambda run: places[run.name]))


def _chains(runs: Sequence[RunPlan]) -> list[list[RunPlan]]:
    """Return the runs in groups that belong together by `after`, those that others come after in front."""
    ordered: list[RunPlan] = []
    left = list(runs)
    while left:
        placed = {run.name for run in ordered}
        names = {run.name for run in left}
        ready = next((run for run in left if not names & {*run.after} - placed), left[0])
        ordered.append(ready)
        left.remove(ready)
    chains: list[list[RunPlan]] = []
    for run in ordered:
        mine = [chain for chain in chains if any(each.name in run.after for each in chain)]
        joined = [each for chain in mine for each in chain]
        chains = [*(chain for chain in chains if chain not in mine), [*joined, run]]
    return chains


def _carry_out(chain: Sequence[RunPlan], around: Surroundings, done: list[Run], while_up: WhileUp | None) -> None:
    """Carry out the runs of a chain, each while those before it are up; what comes after a failed one is skipped."""
    first, rest = chain[0], chain[1:]
    if not rest:
        done.extend(carry_out_on_targets(first, around, while_up))
        return
    begun = False

    def go_on(run: Run, tree: Tree) -> None:
        nonlocal begun
        begun = True
        port = str(run.listening[0].port) if run.listening else ""
        told = {f"{run.name}.url": (run.url or "").rstrip("/"), f"{run.name}.port": port}
        _carry_out(rest, msgspec.structs.replace(around, words={**around.words, **told}), done, while_up)

    *others, run = carry_out_on_targets(first, around, go_on)
    done.extend([*others, run])
    if begun or around.halt.is_set():
        return
    if run.kind == "program" and run.verdict == "passed":
        _carry_out(rest, around, done, while_up)
        return
    for each in rest:
        reason = f"{first.name}, which it comes after, is not up"
        done.append(Run(each.name, each.in_words, each.kind or "unknown", "skipped", reason, source=each.source))


def smoke_report(
    verified: Verified,
    done: Done,
    *,
    strict: bool,
    interrupted: bool,
    stopped_early: bool = False,
) -> Report:
    """Return the report of `dokimon smoke`. With `stopped_early` nothing was run, because a need is not met."""
    findings = verdict_of_findings(verified.findings, strict)
    verdict = findings if stopped_early else verdict_of_smoke(done.prepared, done.runs, done.checks, strict=strict)
    if not stopped_early and not done.runs and verdict == "passed":
        verdict = "unsure"
    return Report(
        format=FORMAT,
        command="smoke",
        verdict=verdict,
        project=project_of(verified.declared),
        requirements=verified.findings,
        installations=tuple(copy for copies in verified.installations.values() for copy in copies),
        components=verified.survey.components,
        picked=verified.picked,
        prepared=done.prepared,
        runs=done.runs,
        checks=done.checks,
        changed_files=done.changed_files,
        interrupted=interrupted,
    )
