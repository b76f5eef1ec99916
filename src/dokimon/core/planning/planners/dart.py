"""Dart and Flutter: a program, or the form for the web."""

from __future__ import annotations

import re

from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, PlanContext, PrepareStep, Rank, RunPlan


def plan(context: PlanContext) -> Plan | None:
    """A program in `bin`; of a Flutter project, its form for the web, which needs no device."""
    path = context.folder / "pubspec.yaml"
    if not path.is_file():
        return None
    if re.search(r"^[ \t]+sdk:\s*flutter", text_of(path), re.MULTILINE):
        command = ("flutter", "run", "-d", "web-server", "--web-hostname", "127.0.0.1", "--web-port", "{port}")
        web = RunPlan(
            rank=Rank.COMMAND,
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
            rank=Rank.COMMAND,
            name=each.stem,
            command=("dart", "run", f"bin/{each.name}"),
            folder=context.folder,
            source=context.source(each),
        )
        for each in programs
    )
    return Plan(prepare=(step,), runs=tuple(runs))
