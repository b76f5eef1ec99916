"""Ant: its target that runs the project, or the archive that its own target makes (ant.apache.org/manual)."""

from __future__ import annotations

import re
from collections.abc import Mapping

from dokimon.core.expressions import expression
from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, PlanContext, PrepareStep, Rank, RunPlan
from dokimon.core.planning.planners.freshness import older_than

_RUNS = expression(r"<target\b[^>]*\bname\s*=\s*\"(run|start|serve|run-server|start-server)\"")
_MAIN = expression(r"<attribute\b[^>]*\bname\s*=\s*\"Main-Class\"[^>]*\bvalue\s*=\s*\"([^\"]+)\"")
_JAR = expression(r"<jar\b[^>]*\b(?:destfile|jarfile)\s*=\s*\"([^\"]+)\"")
_PROPERTY = expression(r"<property\b[^>]*\bname\s*=\s*\"([\w.-]+)\"[^>]*\b(?:value|location)\s*=\s*\"([^\"]*)\"")
_OTHER_BUILDS = ("pom.xml", "build.gradle", "build.gradle.kts", "composer.json", "package.json")
"""Where one of these is there too, it says more than a build file of Ant that was kept beside it."""


def plan(context: PlanContext) -> Plan | None:
    """Return the plan for a folder with a `build.xml` of its own, or None for any other."""
    path = context.folder / "build.xml"
    if not path.is_file() or any((context.folder / name).is_file() for name in _OTHER_BUILDS):
        return None
    text = re.sub(r"<!--.*?-->", lambda comment: "\n" * comment[0].count("\n"), text_of(path), flags=re.DOTALL)
    runs = [
        RunPlan(
            name=f"ant {match[1]}",
            command=("ant", "-q", match[1]),
            folder=context.folder,
            source=context.source(path, text.count("\n", 0, match.start()) + 1),
            rank=Rank.FRAMEWORK,
        )
        for match in _RUNS.finditer(text)
    ]
    if runs:
        return Plan(runs=tuple(runs))
    values: dict[str, str] = {"basedir": "."}
    for name, value in _PROPERTY.findall(text):
        values.setdefault(name, value)  # the first one counts (the manual, "Property")
    main = _MAIN.search(text)
    # The archive with the class to start is the one that was begun last before it.
    jars = [match for match in _JAR.finditer(text) if main and match.start() < main.start()]
    jar = _filled(jars[-1][1], values) if jars else None
    if main is None or jar is None or "$" in jar or not (context.folder / jar).is_relative_to(context.folder):
        return Plan()
    made = context.folder / jar
    step = PrepareStep(
        title="build",
        command=("ant", "-q"),
        folder=context.folder,
        source=context.source(path),
        needed=older_than(made, [path, *(context.folder / name for name in ("src", "source", "java"))]),
        makes=(made,),
    )
    line = text.count("\n", 0, main.start()) + 1
    name = _filled(main[1], values).rpartition(".")[2]
    run = RunPlan(
        name=name,
        command=("java", "-jar", jar),
        folder=context.folder,
        source=context.source(path, line),
        rank=Rank.COMMAND,
    )
    return Plan(prepare=(step,), runs=(run,))


def _filled(text: str, values: Mapping[str, str]) -> str:
    for _ in range(5):
        text = re.sub(r"\$\{([\w.-]+)\}", lambda found: values.get(found[1], found[0]), text)
    return re.sub(r"^(?:\./)+", "", text)
