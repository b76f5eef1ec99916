"""Ecosystems that need but one command: Deno, Swift, Elixir, Dart, firmware, and a folder of plain pages."""

from __future__ import annotations

import re
import sys
from pathlib import Path

from dokimon.core.checks.artefact import Artefact
from dokimon.core.checks.carrying_out import PlannedCheck
from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, PlanContext, PrepareStep, RunPlan


def deno(context: PlanContext) -> Plan | None:
    """A task of `deno.json`, by the names that are usual for scripts."""
    for name in ("deno.json", "deno.jsonc"):
        path = context.folder / name
        if not path.is_file():
            continue
        text = text_of(path)
        for task in ("dev", "start", "serve"):
            if found := re.search(rf'"{task}"\s*:\s*["{{]', text):
                line = text.count("\n", 0, found.start()) + 1
                return Plan(
                    prepare=(),
                    runs=(
                        RunPlan(
                            name=task,
                            command=("deno", "task", task),
                            folder=context.folder,
                            source=context.source(path, line),
                        ),
                    ),
                )
        return Plan()
    return None


def swift(context: PlanContext) -> Plan | None:
    """The executable targets of a package (docs.swift.org, "PackageDescription")."""
    path = context.folder / "Package.swift"
    if not path.is_file():
        return None
    text = text_of(path)
    found = re.finditer(r"\.executable(?:Target)?\s*\(\s*name:\s*\"([^\"]+)\"", text)
    lines = {match[1]: text.count("\n", 0, match.start()) + 1 for match in found}
    runs = (
        RunPlan(name=name, command=("swift", "run", name), folder=context.folder, source=context.source(path, line))
        for name, line in lines.items()
    )
    return Plan(prepare=(), runs=tuple(runs))


def elixir(context: PlanContext) -> Plan | None:
    """Mix: dependencies, then Phoenix's server or the application itself."""
    path = context.folder / "mix.exs"
    if not path.is_file():
        return None
    text = text_of(path)
    steps: tuple[PrepareStep, ...] = ()
    if re.search(r"\{\s*:\w+\s*,", text):
        needed = None if (context.folder / "deps").is_dir() else "there is no folder deps"
        steps = (
            PrepareStep(
                title="fetch dependencies",
                command=("mix", "deps.get"),
                folder=context.folder,
                source=context.source(path),
                needed=needed,
            ),
        )
    if ":phoenix" in text:
        run = RunPlan(
            name="phoenix",
            command=("mix", "phx.server"),
            folder=context.folder,
            source=context.source(path),
            kind="server",
            port=4000,
        )
    else:
        run = RunPlan(
            name="mix", command=("mix", "run", "--no-halt"), folder=context.folder, source=context.source(path)
        )
    return Plan(prepare=steps, runs=(run,))


def dart(context: PlanContext) -> Plan | None:
    """A program in `bin`; of a Flutter project, its form for the web, which needs no device."""
    path = context.folder / "pubspec.yaml"
    if not path.is_file():
        return None
    if re.search(r"^\s+sdk:\s*flutter", text_of(path), re.MULTILINE):
        command = ("flutter", "run", "-d", "web-server", "--web-hostname", "127.0.0.1", "--web-port", "{port}")
        web = RunPlan(
            name="web",
            command=command,
            folder=context.folder,
            source=context.source(path),
            kind="server",
            port=8080,
            may_move=True,
        )
        return Plan(prepare=(), runs=(web,) if (context.folder / "web").is_dir() else ())
    programs = [each for each in sorted(context.folder.glob("bin/*.dart")) if "main(" in text_of(each)]
    needed = (
        None if (context.folder / ".dart_tool/package_config.json").is_file() else "there is no package configuration"
    )
    step = PrepareStep(
        title="fetch packages",
        command=("dart", "pub", "get"),
        folder=context.folder,
        source=context.source(path),
        needed=needed,
    )
    runs = (
        RunPlan(
            name=each.stem,
            command=("dart", "run", f"bin/{each.name}"),
            folder=context.folder,
            source=context.source(each),
        )
        for each in programs
    )
    return Plan(prepare=(step,), runs=tuple(runs))


def firmware(context: PlanContext) -> Plan | None:
    """Firmware is built; what it does shows on a board (ESP-IDF and PlatformIO)."""
    folder = context.folder
    lists = folder / "CMakeLists.txt"

    def built(command: tuple[str, ...], asked_by: Path, *images: str) -> Plan:
        checks = tuple(PlannedCheck(Artefact(built=pattern)) for pattern in images)
        source = context.source(asked_by)
        return Plan(
            prepare=(),
            runs=(
                RunPlan(
                    name="firmware",
                    command=command,
                    folder=folder,
                    source=source,
                    kind="program",
                    within=1800,
                    checks=checks,
                ),
            ),
        )

    if "tools/cmake/project.cmake" in text_of(lists):
        return built(("idf.py", "build"), lists, "build/*.elf", "build/*.bin")
    platformio = folder / "platformio.ini"
    if platformio.is_file():
        return built(("pio", "run"), platformio, ".pio/build/*/firmware.*")
    return None


def static(context: PlanContext) -> Plan | None:
    """A folder of plain pages, served by the Python that Dokimon runs on."""
    for name in ("index.html", "public/index.html", "site/index.html", "docs/index.html"):
        page = context.folder / name
        if page.is_file():
            where = str(page.parent.relative_to(context.folder))
            command = (sys.executable, "-m", "http.server", "{port}", "--bind", "127.0.0.1", "--directory", where)
            run = RunPlan(
                name="pages",
                command=command,
                folder=context.folder,
                source=context.source(page),
                kind="server",
                port=8000,
                may_move=True,
            )
            return Plan(prepare=(), runs=(run,))
    return None
