"""A whole plan carried out: the steps, then the runs, each while those that it comes after are up."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from dokimon.core.checks.leftovers import changed, in_short, state_of
from dokimon.core.planning.plan import Plan, RunPlan, shown
from dokimon.core.processes.tree import Tree
from dokimon.core.report.model import Check, Prepared, Run
from dokimon.core.smoking.preparing import prepare
from dokimon.core.smoking.running import RunContext, WhileUp, own_choices
from dokimon.core.smoking.seen import remember
from dokimon.core.smoking.targets import carry_out_on_targets


class Done(msgspec.Struct, frozen=True, kw_only=True):
    """What a smoke check did: the steps, the runs, what was seen of the checkout when all was over."""

    prepared: tuple[Prepared, ...] = ()
    runs: tuple[Run, ...] = ()
    checks: tuple[Check, ...] = ()
    changed_files: tuple[str, ...] = ()


def carry_out_plan(
    plan: Plan, context: RunContext, while_up: WhileUp | None = None, *, prepare_first: bool = True
) -> Done:
    """Carry out the plan until a step fails or it is halted; return what there was.

    Without `prepare_first` no step is done, and those that are needed are told. With `while_up`, programs that end by
    themselves come first, and it has its turn while the last run is up.
    """
    before = state_of(context.root, context.environment)
    prepared, runs = prepare_and_run(plan, context, while_up, prepare_first=prepare_first)
    remember(runs, context.root, context.logs)
    after = before if isinstance(before, str) else state_of(context.root, context.environment)
    checks = tuple(check for each in plan.checkout for check in each.spec.look_after(before, after))
    return Done(prepared=prepared, runs=runs, checks=checks, changed_files=in_short(changed(before, after)))


def prepare_and_run(
    plan: Plan, context: RunContext, while_up: WhileUp | None = None, *, prepare_first: bool = True
) -> tuple[tuple[Prepared, ...], tuple[Run, ...]]:
    """Carry out the steps, then the runs; return how each went. What comes after a step that failed is left out."""
    prepared: list[Prepared] = []
    for step in plan.prepare:
        if context.halt.is_set():
            break
        if step.needed and not prepare_first:
            reason = f"left out, though it is needed: {step.needed}"
            prepared.append(
                Prepared(
                    title=step.title,
                    verdict="skipped",
                    reason=reason,
                    command=shown(step.command, step.folder, step.words),
                    source=step.source,
                )
            )
            continue
        prepared.append(prepare(step, context))
        if prepared[-1].verdict in ("failed", "unsure"):
            return tuple(prepared), ()
    chains = _chains(plan.runs)
    if while_up:
        chains.sort(key=lambda chain: chain[-1].kind != "program")
    runs: list[Run] = []
    choices = own_choices(plan.runs)

    def waits() -> None:
        ports = " or ".join(f"port {each}" for each in sorted({each for each in choices if each}))
        context.watcher.stage(
            plan.runs[0].name, f"waiting for its turn: another that runs now may take {ports or 'the same port'} too"
        )

    with context.ports.turn(choices, context.halt, waits):
        for chain in chains:
            if context.halt.is_set():
                break
            _carry_out(chain, context, runs, while_up if chain is chains[-1] else None)
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


def _carry_out(chain: Sequence[RunPlan], context: RunContext, done: list[Run], while_up: WhileUp | None) -> None:
    """Carry out the runs of a chain, each while those before it are up; what comes after a failed one is skipped."""
    first, rest = chain[0], chain[1:]
    if not rest:
        done.extend(carry_out_on_targets(first, context, while_up))
        return
    begun = False

    def go_on(run: Run, tree: Tree) -> None:
        nonlocal begun
        begun = True
        port = str(run.listening[0].port) if run.listening else ""
        words = {f"{run.name}.url": (run.url or "").rstrip("/"), f"{run.name}.port": port}
        _carry_out(rest, msgspec.structs.replace(context, words={**context.words, **words}), done, while_up)

    *others, run = carry_out_on_targets(first, context, go_on)
    done.extend([*others, run])
    if begun or context.halt.is_set():
        return
    if run.kind == "program" and run.verdict == "passed":
        _carry_out(rest, context, done, while_up)
        return
    for each in rest:
        reason = f"{first.name}, which it comes after, is not up"
        done.append(
            Run(
                name=each.name,
                command=each.in_words,
                kind=each.kind or "unknown",
                verdict="skipped",
                reason=reason,
                source=each.source,
            )
        )
