"""From a checkout to a plan. A new ecosystem is one more module here and one more entry in `ECOSYSTEMS`."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from dokimon.core.planning import from_settings, node, python
from dokimon.core.planning.plan import Plan, PlanFault, RunPlan, Setting, shown
from dokimon.core.settings import Settings
from dokimon.core.text import nearest

ECOSYSTEMS = (node, python)


def make_plan(setting: Setting, settings: Settings, chosen: Sequence[str] = ()) -> Plan:
    """Return the plan: what `dokimon.toml` says, and what can be inferred for the rest of it.

    A `[[prepare]]` takes the place of all inferred steps, a `[[run]]` of all inferred runs. `chosen` picks runs by
    name. Raises `PlanFault` when there is nothing to run, or more than one way and none chosen.
    """
    inferred = [plan for plan in (ecosystem.plan(setting) for ecosystem in ECOSYSTEMS) if plan]
    words = {"python": setting.command("python", "python3")}
    environment: dict[str, str] = {}
    for plan in inferred:
        words.update(plan.words)
        environment.update(plan.environment)
    prepare = from_settings.steps(settings, setting, words, environment)
    prepare = prepare or [step for plan in inferred for step in plan.prepare]
    if settings.run:
        return Plan(tuple(prepare), _pick(from_settings.runs(settings, setting, words, environment), chosen))
    runs = [_with_checks(run, settings) for plan in inferred for run in plan.runs]
    if not runs:
        raise PlanFault(_nothing(setting))
    picked = _pick(runs, chosen)
    if len(picked) > 1 and not chosen:
        ways = "".join(
            f"\n  --run {run.name}   {shown(run.command, run.folder)}   ({run.source.file})" for run in picked
        )
        raise PlanFault(f"there is more than one way to start this project; choose one:{ways}")
    return Plan(tuple(prepare), picked)


def _pick(runs: list[RunPlan], chosen: Sequence[str]) -> tuple[RunPlan, ...]:
    names = [run.name for run in runs]
    for name in chosen:
        if name not in names:
            like = nearest(name, names)
            hint = f'did you mean "{like}"?' if like else f"there are {', '.join(names)}"
            raise PlanFault(f'no run is named "{name}"; {hint}')
    return tuple(run for run in runs if not chosen or run.name in chosen)


def _with_checks(run: RunPlan, settings: Settings) -> RunPlan:
    pages, end = from_settings.checks_of(run.name, settings)
    return msgspec.structs.replace(run, pages=pages or run.pages, end=end or run.end)


def _nothing(setting: Setting) -> str:
    return (
        f"found no way to start what lies in {setting.folder}\n"
        "Looked for a dev, start or serve script in package.json, a server.js, a manage.py, an application object in\n"
        "app.py, main.py and the like, and a package with a __main__.py. Say it in dokimon.toml:\n\n"
        'format = 1\n\n[[run]]\nname = "board"\ncommand = "./start.sh"\n'
    )
