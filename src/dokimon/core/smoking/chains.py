"""A whole plan carried out: the steps, then the runs, each while those that it comes after are up."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager

import msgspec

from dokimon.core.checks.leftovers import changed, in_short, state_of
from dokimon.core.planning.plan import Plan, PrepareStep, RunPlan, shown
from dokimon.core.report.model import Check, Prepared, Run
from dokimon.core.smoking.built import where_built
from dokimon.core.smoking.context import RunContext
from dokimon.core.smoking.preparing import prepare
from dokimon.core.smoking.run.attempts import Attempt
from dokimon.core.smoking.run.inputs import own_choices
from dokimon.core.smoking.run.outcome import skipped
from dokimon.core.smoking.seen import remember
from dokimon.core.smoking.targets import OnTargets, on_targets


class Done(msgspec.Struct, frozen=True, kw_only=True):
    """What a smoke check did: the steps, the runs, what was seen of the checkout when all was over."""

    prepared: tuple[Prepared, ...] = ()
    runs: tuple[Run, ...] = ()
    checks: tuple[Check, ...] = ()
    changed_files: tuple[str, ...] = ()


class Work:
    """A plan that is carried out. In the block `up` is the last run, where it is up; after it `done` has what was seen."""

    def __init__(self) -> None:
        self.up: Attempt | None = None
        self.done = Done()


@contextmanager
def carry_out_plan(
    plan: Plan, context: RunContext, *, prepare_first: bool = True, stays_up: bool = False
) -> Iterator[Work]:
    """Carry out the plan as `prepare_and_run` does, then look at what was left in the checkout, and remember what passed."""
    before = state_of(context.root, context.environment)
    with prepare_and_run(plan, context, prepare_first=prepare_first, stays_up=stays_up) as work:
        yield work
    remember(work.done.runs, context.root, context.logs)
    after = before if isinstance(before, str) else state_of(context.root, context.environment)
    checks = tuple(check for each in plan.checkout for check in each.spec.look_after(before, after))
    files = in_short(changed(before, after))
    work.done = msgspec.structs.replace(work.done, checks=checks, changed_files=files)


@contextmanager
def prepare_and_run(
    plan: Plan, context: RunContext, *, prepare_first: bool = True, stays_up: bool = False
) -> Iterator[Work]:
    """Carry out the steps, then the runs, until a step fails or it is halted. What is up in the block is stopped after it.

    Without `prepare_first` no step is done, and those that are needed are told. Where the last run `stays_up` for somebody,
    programs that end by themselves come first.
    """
    work = Work()
    prepared = _prepared(plan.prepare, context, prepare_first=prepare_first)
    plan = msgspec.structs.replace(plan, runs=tuple(map(where_built, plan.runs)))
    runs: list[Run] = []
    failed = any(each.verdict in ("failed", "unsure") for each in prepared)
    chains = [] if failed else _chains(plan.runs)
    if stays_up:
        chains.sort(key=lambda chain: chain[-1].kind != "program")
    with _turn_at_ports(plan, context) if chains else ExitStack():
        for chain in chains[:-1]:
            with _chain_up(chain, context) as links:
                pass
            runs += links.reports
        with _chain_up(chains[-1] if chains else (), context) as links:
            work.up = links.up
            yield work
        runs += links.reports
    work.done = Done(prepared=tuple(prepared), runs=_as_planned(runs, plan))


def _prepared(steps: Sequence[PrepareStep], context: RunContext, *, prepare_first: bool) -> list[Prepared]:
    """Carry out the steps until one fails, and return how each went."""
    prepared: list[Prepared] = []
    for step in steps:
        if context.halt.is_set():
            break
        prepared.append(prepare(step, context) if prepare_first or not step.needed else _left_out(step))
        if prepared[-1].verdict in ("failed", "unsure"):
            break
    return prepared


def _left_out(step: PrepareStep) -> Prepared:
    return Prepared(
        title=step.title,
        verdict="skipped",
        reason=f"left out, though it is needed: {step.needed}",
        command=shown(step.command, step.folder, step.words),
        source=step.source,
    )


@contextmanager
def _turn_at_ports(plan: Plan, context: RunContext) -> Iterator[None]:
    """Hold the ports that the runs choose themselves, of those who smoke-check side by side."""
    choices = own_choices(plan.runs)

    def waits() -> None:
        ports = " or ".join(f"port {each}" for each in sorted({each for each in choices if each}))
        context.watcher.stage(
            plan.runs[0].name, f"waiting for its turn: another that runs now may take {ports or 'the same port'} too"
        )

    with context.ports.turn(choices, context.halt, waits):
        yield


def _as_planned(runs: Sequence[Run], plan: Plan) -> tuple[Run, ...]:
    """Return the reports in the order of the plan; a run on several targets is named after each of them."""
    order = [each.name for each in plan.runs]
    places = {run.name: order.index(run.name if run.name in order else run.name.rpartition("@")[0]) for run in runs}
    return tuple(sorted(runs, key=lambda run: places[run.name]))


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


class _Links:
    """The runs of a chain that were carried out, in order; `up` is the last one, where all are up or went well."""

    def __init__(self) -> None:
        self.runs: list[OnTargets] = []
        self.skipped: list[Run] = []
        self.up: Attempt | None = None

    @property
    def reports(self) -> list[Run]:
        return [report for each in self.runs for report in each.reports] + self.skipped


@contextmanager
def _chain_up(chain: Sequence[RunPlan], context: RunContext) -> Iterator[_Links]:
    """Carry out runs, each while those before it are up; what comes after a failed one is skipped.

    In the block all that were up still are. They are stopped after it, the last first.
    """
    links, words = _Links(), dict(context.words)
    with ExitStack() as up:
        for number, plan in enumerate(chain):
            if context.halt.is_set():
                break
            with ExitStack() as this:
                here = msgspec.structs.replace(context, words=words)
                runs = this.enter_context(on_targets(plan, here))
                links.up = runs.last if runs.last.is_up else None
                if links.up:
                    up.push(this.pop_all())
            links.runs.append(runs)
            if links.up:
                words = {**words, **_words_of(links.up.report)}
                links.up.is_used = number < len(chain) - 1
            elif not _ended_well(runs.last.report) and not context.halt.is_set():
                because = f"{plan.name}, which it comes after, is not up"
                links.skipped = [skipped(each, because) for each in chain[number + 1 :]]
                break
        yield links


def _ended_well(run: Run) -> bool:
    return run.kind == "program" and run.verdict == "passed"


def _words_of(run: Run) -> dict[str, str]:
    """Return the words by which runs that come after this one find it."""
    port = str(run.listening[0].port) if run.listening else ""
    return {f"{run.name}.url": (run.url or "").rstrip("/"), f"{run.name}.port": port}
