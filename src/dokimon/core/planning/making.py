"""From a checkout to a plan. A new ecosystem is one more planner here and one more entry in `PLANNERS`."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import msgspec

from dokimon.core.planning.configured import Configured, checks_of, checks_of_checkout
from dokimon.core.planning.plan import Plan, PlanContext, PlanFault, RunPlan, shown
from dokimon.core.planning.planners import (
    dart,
    deno,
    dotnet,
    elixir,
    firmware,
    golang,
    java,
    native,
    node,
    pages,
    php,
    python,
    ruby,
    rust,
    swift,
)  # fmt: skip
from dokimon.core.settings.model import Settings
from dokimon.core.text import nearest

Planner = Callable[[PlanContext], Plan | None]

PLANNERS: tuple[Planner, ...] = (
    node.plan, deno.plan, python.plan, php.plan, java.plan, dotnet.plan, rust.plan, golang.plan, ruby.plan, swift.plan,
    elixir.plan, dart.plan, firmware.plan, native.plan,
)  # fmt: skip
"""Each looks at the folder and returns how its ecosystem would start the project there, or None."""

LAST: Planner = pages.plan
"""What is left when no other planner found a way."""


def make_plan(context: PlanContext, settings: Settings, chosen: Sequence[str] = (), *, every: bool = False) -> Plan:
    """Return the plan: what `dokimon.toml` says, and what can be inferred for the rest of it.

    A `[[prepare]]` takes the place of all inferred steps, a `[[run]]` of all inferred runs. `chosen` picks runs by
    name, with those that they come after. Raises `PlanFault` when there is nothing to run, or more than one way and
    neither some chosen nor `every` wanted.
    """
    inferred = _inferred(context)
    words = {"python": context.command("python", "python3")}
    environment: dict[str, str] = {}
    for plan in inferred:
        words.update(plan.words)
        environment.update(plan.environment)
    configured = Configured(settings, context, words, environment)
    prepare = configured.steps()
    if settings.run:
        prepare = prepare or [step for plan in inferred for step in plan.prepare]
        runs = _pick(configured.runs(), chosen)
        return Plan(
            prepare=tuple(prepare),
            runs=runs,
            words=words,
            environment=environment,
            checkout=checks_of_checkout(settings),
        )
    inferred_runs = _with_own_names([_with_checks(run, settings) for plan in inferred for run in plan.runs])
    if not inferred_runs:
        raise PlanFault(_nothing(context))
    picked = _pick(inferred_runs, chosen)
    if len(picked) > 1 and not chosen and not every:
        width = max(len(run.name) for run in picked)
        ways = "".join(
            f"\n  --run {run.name:<{width}}   {shown(run.command, run.folder)}   ({run.source.file}:{run.source.line})"
            for run in picked
        )
        raise PlanFault(f"there is more than one way to start this project; choose one:{ways}")
    # What prepares another way to start is not needed for the one that was picked.
    sources = {run.source for run in picked}
    mine = [plan for plan in inferred if any(run.source in sources for run in plan.runs)]
    steps = tuple(prepare or [step for plan in mine for step in plan.prepare])
    return Plan(prepare=steps, runs=picked, words=words, environment=environment, checkout=checks_of_checkout(settings))


def _inferred(context: PlanContext) -> list[Plan]:
    found = [plan for planner in PLANNERS if (plan := planner(context))]
    if any(plan.runs for plan in found):
        return found
    last = LAST(context)
    return [*found, last] if last else found


def _with_own_names(runs: list[RunPlan]) -> list[RunPlan]:
    """Give runs of the same name a number, so that each can be picked."""
    seen: dict[str, int] = {}
    named = []
    for run in runs:
        seen[run.name] = seen.get(run.name, 0) + 1
        number = seen[run.name]
        named.append(msgspec.structs.replace(run, name=f"{run.name}-{number}") if number > 1 else run)
    return named


def _pick(runs: list[RunPlan], chosen: Sequence[str]) -> tuple[RunPlan, ...]:
    names = [run.name for run in runs]
    for name in chosen:
        if name not in names:
            like = nearest(name, names)
            hint = f'did you mean "{like}"?' if like else f"the runs are: {', '.join(names)}"
            raise PlanFault(f'no run is named "{name}"; {hint}')
    wanted = {*chosen}
    while more := {other for run in runs if run.name in wanted for other in run.after} - wanted:
        wanted |= more
    return tuple(run for run in runs if not chosen or run.name in wanted)


def _with_checks(run: RunPlan, settings: Settings) -> RunPlan:
    return msgspec.structs.replace(run, checks=checks_of(run.name, settings) or run.checks)


def _nothing(context: PlanContext) -> str:
    return (
        f"found no way to start the project in {context.folder}\n"
        "Looked for what the manifests of Node.js, Deno, Python, PHP, Java, .NET, Rust, Go, Ruby, Swift, Elixir, Dart,\n"
        "CMake, Meson and make say, for files of usual names (server.js, manage.py, index.php, main.go), and for an\n"
        "index.html. Say it in dokimon.toml:\n\n"
        'format = 1\n\n[[run]]\nname = "board"\ncommand = "./start.sh"\n'
    )
