"""The second of Dokimon's two questions: does the project start here?"""

from __future__ import annotations

import threading
from collections.abc import Mapping, Sequence

from dokimon.core.launching.preparing import prepare
from dokimon.core.launching.running import Kept, carry_out
from dokimon.core.launching.watching import Watcher
from dokimon.core.planning import make_plan
from dokimon.core.planning.plan import Plan, Setting
from dokimon.core.report.model import FORMAT, Prepared, Report, Run
from dokimon.core.report.outcome import verdict_of_findings, verdict_of_smoke
from dokimon.core.verifying import Verified, project_of


def plan_smoke(verified: Verified, environment: Mapping[str, str], chosen: Sequence[str]) -> Plan:
    """Return the plan for the verified checkout; raises `PlanFault` when there is none, or none without a choice."""
    reached = {tool: copy.path for tool, copies in verified.installations.items() for copy in copies if copy.reached}
    checkout = verified.checkout
    setting = Setting(checkout.root, checkout.project, dict(environment), reached)
    return make_plan(setting, verified.settings, chosen)


def smoke(
    verified: Verified,
    plan: Plan,
    environment: Mapping[str, str],
    halt: threading.Event,
    watcher: Watcher,
    kept: Kept | None = None,
) -> tuple[tuple[Prepared, ...], tuple[Run, ...]]:
    """Carry out the plan until a step fails or `halt` is set; return the steps and the runs that there were.

    With `kept`, programs that end by themselves come first, and the last run is kept up.
    """
    prepared: list[Prepared] = []
    for step in plan.prepare:
        if halt.is_set():
            break
        prepared.append(prepare(step, environment, halt, watcher))
        if prepared[-1].verdict in ("failed", "unsure"):
            return tuple(prepared), ()
    runs: list[Run] = []
    in_order = sorted(plan.runs, key=lambda run: run.kind != "program") if kept else plan.runs
    for run in in_order:
        if halt.is_set():
            break
        last = run is in_order[-1]
        runs.append(carry_out(run, environment, halt, watcher, kept if last else None))
    return tuple(prepared), tuple(runs)


def smoke_report(
    verified: Verified,
    prepared: tuple[Prepared, ...],
    runs: tuple[Run, ...],
    *,
    strict: bool,
    interrupted: bool,
    stopped_early: bool = False,
) -> Report:
    """Return the report of `dokimon smoke`. With `stopped_early` nothing was run, because a need is not met."""
    findings = verdict_of_findings(verified.findings, strict)
    verdict = findings if stopped_early else verdict_of_smoke(prepared, runs)
    if not stopped_early and not runs and verdict == "passed":
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
        prepared=prepared,
        runs=runs,
        interrupted=interrupted,
    )
