"""From a checkout to a plan. A new ecosystem is one more planner here and one more entry in `PLANNERS`."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping, Sequence, Set
from importlib import import_module
from itertools import islice
from pathlib import Path

import msgspec

from dokimon.core.declarations.checkout import projects_below
from dokimon.core.expressions import expression
from dokimon.core.planning.by_hand import by_hand
from dokimon.core.planning.configured import Configured, checks_of, checks_of_checkout
from dokimon.core.planning.plan import Plan, PlanContext, PlanFault, Rank, RunPlan, shown
from dokimon.core.reading.manifest import ManifestFault, as_json, as_toml, open_manifest
from dokimon.core.reading.xml import as_xml
from dokimon.core.settings.model import Settings
from dokimon.core.text import nearest

Planner = Callable[[PlanContext], Plan | None]

PLANNERS: Mapping[str, tuple[str, ...]] = {
    "node": (
        "package.json",
        "server.js",
        "app.js",
        "index.js",
        "main.js",
        "server.mjs",
        "app.mjs",
        "index.mjs",
        "main.mjs",
    ),
    "deno": ("deno.json", "deno.jsonc"),
    "python": (),
    "php": ("composer.json", "index.php", "public", "web", "htdocs", "www", "public_html"),
    "java": ("pom.xml", "build.gradle", "build.gradle.kts", "settings.gradle", "settings.gradle.kts", "*.java"),
    "ant": ("build.xml",),
    "dotnet": (),
    "rust": ("Cargo.toml",),
    "golang": ("go.mod", "*.go"),
    "ruby": ("Gemfile", "config.ru", "*.gemspec", "*.rb"),
    "swift": ("Package.swift",),
    "elixir": ("mix.exs",),
    "dart": ("pubspec.yaml",),
    "firmware": ("CMakeLists.txt", "platformio.ini"),
    "native": ("CMakeLists.txt", "meson.build"),
    "qmake": ("*.pro",),
    "make": ("configure", "configure.ac", "configure.in", "Makefile", "GNUmakefile", "src"),
    "perl": ("cpanfile", "Makefile.PL", "Build.PL", "app.psgi", "bin", "script", "*.pl"),
    "haskell": ("*.cabal", "package.yaml"),
    "by_manifest": (),
    "notebooks": ("*.ipynb", "notebooks"),
    "documentation": ("mkdocs.yml", "mkdocs.yaml", "conf.py", "source", "docs", "doc"),
}
"""The planners of ecosystems by their modules, in order, with the files or folders that there are where they can find a way.

Each looks at a folder and returns how its ecosystem would start the project there, or None. It is loaded and asked where
there is one of these names, whatever its capitals (`*.java`: one that ends so); without any, everywhere.
"""

FOR_ALL = ("processes", "tasks", "runners", "proposals")
"""What says how to start in the same words for every ecosystem: their commands need what the others prepare."""

LAST = ("containers", "pages")
"""What is left when no other planner found a way."""


def make_plan(context: PlanContext, settings: Settings, chosen: Sequence[str] = (), *, every: bool = False) -> Plan:
    """Return the plan: what `dokimon.toml` says, and what can be inferred for the rest of it.

    A `[[prepare]]` takes the place of all inferred steps, a `[[run]]` of all inferred runs. `chosen` picks runs by
    name, with those that they come after. Of several inferred ways the best by its rank is taken, the others are listed;
    with `every`, all but proposals are. A folder without a way of its own has those of its members. Raises `PlanFault`
    when there is nothing to run.
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
    ways = _with_own_names(_each_once([run for plan in inferred for run in plan.runs]))
    if not any(run.rank < Rank.PROPOSAL for run in ways):
        parts = parts_below(context)
        if parts:
            inferred, ways = parts, [run for plan in parts for run in plan.runs] + ways
    ways = [_with_checks(run, settings) for run in sorted(ways, key=lambda run: run.rank)]
    if not ways:
        raise PlanFault(_nothing(context))
    picked = _picked(ways, chosen, every=every, context=context)
    # What prepares another way to start is not needed for the one that was picked.
    sources = {run.source for run in picked}
    mine = [plan for plan in inferred if any(run.source in sources for run in plan.runs)]
    inferred_steps = {(step.command, step.folder): step for plan in mine for step in plan.prepare}
    steps = tuple(prepare or inferred_steps.values())
    return Plan(
        prepare=steps,
        runs=picked,
        words=words,
        environment=environment,
        checkout=checks_of_checkout(settings),
        others=tuple(run for run in ways if run not in picked),
    )


def _picked(ways: list[RunPlan], chosen: Sequence[str], *, every: bool, context: PlanContext) -> tuple[RunPlan, ...]:
    if chosen:
        return _pick(ways, chosen)
    certain = [run for run in ways if run.rank < Rank.PROPOSAL]
    if not certain:
        used = by_hand(context.folder)
        raise PlanFault(
            f"nothing says for certain how the project in {context.folder} is started; "
            f"what could be tried, in this order:{_listed(ways)}{f'{chr(10)}{used}' if used else ''}"
        )
    if every:
        return tuple(certain)
    if certain[0].folder != context.folder and len({run.folder for run in certain}) > 1:
        raise PlanFault(f"the project has several parts; choose one, or take --all-runs:{_listed(certain)}")
    return (certain[0],)


def _listed(runs: Sequence[RunPlan]) -> str:
    width = max(len(run.name) for run in runs)
    return "".join(
        f"\n  --run {run.name:<{width}}   {shown(run.command, run.folder, run.words)}   ({run.source.place})"
        for run in runs
    )


def parts_below(context: PlanContext) -> list[Plan]:
    """Return the plans of the projects below the folder that can be started, their runs by the names of their folders."""
    found = []
    for name in projects_below(context.folder)[:_MOST_PARTS]:
        if _BESIDE.search(name) or (context.folder / name / "__init__.py").is_file():
            continue
        part = msgspec.structs.replace(context, folder=context.folder / name)
        for plan in _inferred(part):
            certain = sorted((run for run in plan.runs if run.rank < Rank.PROPOSAL), key=lambda run: run.rank)[:1]
            runs = tuple(msgspec.structs.replace(run, name=name) for run in certain)
            if runs:
                found.append(msgspec.structs.replace(plan, runs=runs))
                break
    return found


_MOST_PARTS = 40
_BESIDE = expression(
    r"(?i)(?:^|/)(?:[\w-]*tests?[\w-]*|examples?|samples?|demos?|docs?|documentation|templates?|tools?|scripts?|hack|bench\w*|fixtures|dummy"
    r"|requirements|misc|contrib|utils?|external|third[_-]party|packaging|ci|build\w*)(?:/|$)"
)
"""Folders beside the parts of a project: what is tried out, explained or helps in there. A package of Python is no part."""


def planner_of(module: str) -> Planner:
    """Return the planner that a module of `planners` has."""
    found: Planner = import_module(f"dokimon.core.planning.planners.{module}").plan
    return found


def asked_in(folder: Path) -> list[str]:
    """Return the planners of `PLANNERS` that can have something to say of a folder, in their order."""
    try:
        names = {entry.name.lower() for entry in os.scandir(folder)}
    except OSError:  # it may still be entered
        return list(PLANNERS)
    return [module for module, marks in PLANNERS.items() if not marks or any(_is_there(each, names) for each in marks)]


def _is_there(mark: str, names: Set[str]) -> bool:
    mark = mark.lower()
    return any(name.endswith(mark[1:]) for name in names) if mark.startswith("*") else mark in names


def _of_ecosystems(context: PlanContext) -> list[Plan]:
    return [plan for module in asked_in(context.folder) if (plan := planner_of(module)(context)) is not None]


def _inferred(context: PlanContext) -> list[Plan]:
    found = _of_ecosystems(context)
    environment = {name: value for plan in found for name, value in plan.environment.items()}
    steps = tuple(step for plan in found for step in plan.prepare)
    for module in FOR_ALL:
        if plan := planner_of(module)(context):
            runs = tuple(
                msgspec.structs.replace(run, environment={**environment, **run.environment}) for run in plan.runs
            )
            own = tuple(
                msgspec.structs.replace(step, environment={**environment, **step.environment}) for step in plan.prepare
            )
            found.append(msgspec.structs.replace(plan, runs=runs, prepare=(*steps, *own)))
    if any(run.rank < Rank.PROPOSAL for plan in found for run in plan.runs):
        return found
    last = next((plan for module in LAST if (plan := planner_of(module)(context)) is not None), None)
    return [*found, last] if last else found


def _each_once(runs: list[RunPlan]) -> list[RunPlan]:
    """Leave out a lone file that another way starts as well."""
    taken = {each for run in runs if run.rank < Rank.FILE for each in (run.source.file, run.name)}
    kept = []
    for run in runs:
        if run.rank is Rank.FILE:
            if {run.source.file, run.name} & taken:
                continue
            taken.add(run.source.file)
        kept.append(run)
    return kept


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
    if used := by_hand(context.folder):
        return f"nothing to start in {context.folder}\n{used}"
    if unreadable := _unreadable(context):
        return f"found no way to start the project in {context.folder}\n{unreadable}"
    library = ": nothing in it is started: it is a library, or tests" if _of_ecosystems(context) else ""
    return (
        f"found no way to start the project in {context.folder}{library}\n"
        "Looked for what the manifests of each ecosystem say, commands that a package installs, processes and tasks\n"
        "(Procfile, make, just, task), files of usual names (server.js, manage.py, index.php, main.go, run.sh), what the\n"
        "README says under Usage, and an index.html. Say it in dokimon.toml:\n\n"
        'format = 1\n\n[[run]]\nname = "board"\ncommand = "./start.sh"\n'
    )


_MOST_UNREADABLE = 5


def _unreadable(context: PlanContext) -> str:
    """Say which of the manifests that tell how a project is started cannot be read, where, and why."""
    readers = {
        "package.json": as_json, "composer.json": as_json, "pyproject.toml": as_toml, "Cargo.toml": as_toml,
        "pom.xml": as_xml, "*.csproj": as_xml, "*.fsproj": as_xml, "*.vbproj": as_xml,
    }  # fmt: skip
    said = []
    for pattern, read in readers.items():
        for path in islice(sorted(context.folder.glob(pattern)), _MOST_UNREADABLE):
            try:
                read(open_manifest(path, context.root))
            except ManifestFault as fault:
                said.append(f"{path.relative_to(context.root)}:{fault.line}: {path.name} {fault}; correct it first")
    return "\n".join(said)
