"""Java and its relatives: Maven, Gradle (their wrappers first), and a single file that Java itself can start."""

from __future__ import annotations

import os
import re
from pathlib import Path

from dokimon.core.expressions import expression
from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, PlanContext, PrepareStep, Rank, RunPlan
from dokimon.core.planning.planners.freshness import older_than
from dokimon.core.source import Source

_MAIN = expression(r"\bstatic\s+(?:public\s+)?void\s+main\s*\(|^[ \t]*void\s+main\s*\(\s*\)", re.MULTILINE)
_MAVEN_GOALS = (
    ("spring-boot-maven-plugin", "spring-boot:run", 8080),
    ("quarkus-maven-plugin", "quarkus:dev", 8080),
    ("micronaut-maven-plugin", "mn:run", 8080),
    ("jetty-maven-plugin", "jetty:run", 8080),
    ("exec-maven-plugin", "exec:java", None),
    ("javafx-maven-plugin", "javafx:run", None),
)
"""Plug-ins that start a project, their goals, and the ports that the servers among them take."""

_APPLIED = (
    r"(?:^|[{{;])[ \t]*(?:id[ \t]*\(?[ \t]*|alias[ \t]*\([ \t]*|apply[ \t]*\(?[ \t]*plugin[ \t]*[:=][ \t]*)"
    r"['\"]?(?:{})['\")]"
    r"(?![^\n]*\bapply\s*\(?\s*false)"
)
"""How a plug-in is applied (Gradle's manual, "Using Plugins"): one that is only named is no part of this project."""

_GRADLE_TASKS = (
    (_APPLIED.format(r"org\.springframework\.boot|libs\.plugins\.spring\.?boot"), "bootRun", 8080),
    (_APPLIED.format(r"io\.quarkus|libs\.plugins\.quarkus"), "quarkusDev", 8080),
    (_APPLIED.format(r"io\.micronaut\.application|libs\.plugins\.micronaut"), "run", 8080),
    (_APPLIED.format(r"io\.ktor\.plugin|libs\.plugins\.ktor"), "run", 8080),
    (_APPLIED.format("application") + r"|^[ \t]*`?application`?[ \t]*$|^[ \t]*application[ \t]*\{", "run", None),
)


def plan(context: PlanContext) -> Plan | None:
    """Return the plan for a Maven or Gradle project, or for a single Java file; None for any other folder."""
    return _maven(context) or _gradle(context) or _single_file(context)


def _wrapped(context: PlanContext, wrapper: str, otherwise: str) -> tuple[str, ...]:
    """A wrapper brings the version that the project wants; one without its run bit is started by the shell.

    That of a part lies at the root of the whole.
    """
    above = [context.folder, *(path for path in context.folder.parents if path.is_relative_to(context.root))]
    path = next((place / wrapper for place in above if (place / wrapper).is_file()), None)
    if path is None:
        return (otherwise,)
    shown = os.path.relpath(path, context.folder)
    shown = shown if shown.startswith("..") else f"./{shown}"
    return (shown,) if os.access(path, os.X_OK) else ("sh", shown.removeprefix("./"))


def _maven(context: PlanContext) -> Plan | None:
    pom = context.folder / "pom.xml"
    if not pom.is_file():
        return None
    text = text_of(pom)
    maven = (*_wrapped(context, "mvnw", "mvn"), "--batch-mode")
    for plugin, goal, port in _MAVEN_GOALS:
        if plugin in text:
            source = context.source(pom, text[: text.index(plugin)].count("\n") + 1)
            return Plan(
                prepare=(), runs=(_server_or_not(goal, (*maven, goal), context.folder, source, context.folder, port),)
            )
    sources = context.folder / "src/main"
    main = _main_class(context.folder / "src/main/java")
    if main is None:
        return Plan()
    name, path = main
    target = context.folder / "target/classes" / f"{name.replace('.', '/')}.class"
    step = PrepareStep(
        title="compile", command=(*maven, "--quiet", "compile"), folder=context.folder, source=context.source(pom),
        needed=older_than(target, [pom, sources]), makes=(target,),
    )  # fmt: skip
    line = _line_of_main(path)
    command = ("java", "-cp", "target/classes", name)
    return Plan(
        prepare=(step,),
        runs=(
            RunPlan(
                rank=Rank.FRAMEWORK,
                name=name.rpartition(".")[2],
                command=command,
                folder=context.folder,
                source=context.source(path, line),
            ),
        ),
    )


def _gradle(context: PlanContext) -> Plan | None:
    folder = context.folder
    build = next((folder / n for n in ("build.gradle", "build.gradle.kts") if (folder / n).is_file()), None)
    settings = [folder / "settings.gradle", folder / "settings.gradle.kts"]
    if build is None and not any(path.is_file() for path in settings):
        return None
    # Without a daemon nothing is left behind, and its output is plain.
    gradle = (*_wrapped(context, "gradlew", "gradle"), "--no-daemon", "--console=plain", "--quiet")
    runs = []
    for path in [build] if build else sorted([*folder.glob("*/build.gradle"), *folder.glob("*/build.gradle.kts")]):
        text = text_of(path)
        for pattern, task, port in _GRADLE_TASKS:
            if found := re.search(pattern, text, re.MULTILINE):
                part = "" if path.parent == folder else f":{path.parent.name}:"
                line = text.count("\n", 0, found.start()) + 1
                source = context.source(path, line)
                command = (*gradle, f"{part}{task}")
                runs.append(_server_or_not(part.strip(":") or task, command, folder, source, path.parent, port))
                break
    return Plan(prepare=(), runs=tuple(runs))


def _server_or_not(
    name: str, command: tuple[str, ...], folder: Path, source: Source, part: Path, port: int | None
) -> RunPlan:
    """A way to start that is a server where it has a usual `port`; `part` is the folder whose settings may name another."""
    if port is None:
        return RunPlan(rank=Rank.FRAMEWORK, name=name, command=command, folder=folder, source=source)
    return RunPlan(
        rank=Rank.FRAMEWORK,
        name=name,
        command=command,
        folder=folder,
        source=source,
        kind="server",
        port=_configured_port(part) or port,
    )


def _configured_port(folder: Path) -> int | None:
    """The port that Spring's or Quarkus' properties name."""
    for name in ("application.properties", "application.yml", "application.yaml"):
        text = text_of(folder / "src/main/resources" / name)
        if found := re.search(
            r"^(?:server|quarkus\.http)\.port\s*[=:][ \t]*(\d{1,5})\b|^server:[ \t]*\n[ \t]+port:[ \t]*(\d{1,5})\b",
            text,
            re.MULTILINE,
        ):
            return int(found[1] or found[2])
    return None


def _main_class(sources: Path) -> tuple[str, Path] | None:
    """Return the one class below `sources` that has a main method, and its file; None where there is none or several."""
    found = [path for path in sorted(sources.rglob("*.java"))[:2000] if _MAIN.search(text_of(path))]
    if len(found) != 1:
        return None
    return ".".join(found[0].relative_to(sources).with_suffix("").parts), found[0]


def _line_of_main(path: Path) -> int:
    text = text_of(path)
    found = _MAIN.search(text)
    return text.count("\n", 0, found.start()) + 1 if found else 1


def _single_file(context: PlanContext) -> Plan | None:
    """A lone source file (JEP 330, JEP 458): Java compiles it in memory."""
    found = [path for path in sorted(context.folder.glob("*.java")) if _MAIN.search(text_of(path))]
    if len(found) != 1:
        return None
    path = found[0]
    return Plan(
        prepare=(),
        runs=(
            RunPlan(
                rank=Rank.FRAMEWORK,
                name=path.stem,
                command=("java", path.name),
                folder=context.folder,
                source=context.source(path, _line_of_main(path)),
            ),
        ),
    )
