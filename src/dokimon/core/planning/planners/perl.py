"""Perl: web applications, the programs of a distribution, a lone script."""

from __future__ import annotations

import re
from pathlib import Path

from dokimon.core.expressions import expression
from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, PlanContext, PrepareStep, Rank, RunPlan
from dokimon.core.planning.planners.by_manifest import is_beside

_HELPS = expression(r"(?i)release|build|config|install|test|update|make|gen|doc")
_PSGI = ("app.psgi", "bin/app.psgi")
_SCRIPTS = ("app.pl", "server.pl", "main.pl", "script.pl")


def plan(context: PlanContext) -> Plan | None:
    """Return the plan for a Perl project, or None when the folder is none."""
    folder = context.folder
    marks = [folder / name for name in ("cpanfile", "Makefile.PL", "Build.PL", *_PSGI) if (folder / name).is_file()]
    application = _mojolicious(folder)
    script = next((folder / name for name in _SCRIPTS if (folder / name).is_file()), None)
    lone = [path for path in sorted(folder.glob("*.pl")) if not _HELPS.search(path.stem)]
    lone = [] if marks or is_beside(folder) else lone
    script = script or (lone[0] if len(lone) == 1 else None)
    if not marks and script is None and application is None:
        return None
    runs: list[RunPlan] = []
    command: tuple[str, ...]
    if psgi := next((name for name in _PSGI if (folder / name).is_file()), None):
        command = ("plackup", "--host", "127.0.0.1", "--port", "{port}", psgi)
        runs.append(_run(context, "plack", command, folder / psgi, 5000))
    if application is not None:
        command = ("perl", application.relative_to(folder).as_posix(), "daemon", "-l", "http://127.0.0.1:{port}")
        runs.append(_run(context, application.stem, command, application, 3000))
    if script is not None:
        if re.search(r"\bMojolicious::Lite\b", text_of(script)):
            command = ("perl", script.name, "daemon", "-l", "http://127.0.0.1:{port}")
            runs.append(_run(context, script.stem, command, script, 3000))
        else:
            command = ("perl", *(("-Ilib",) if (folder / "lib").is_dir() else ()), script.name)
            runs.append(RunPlan(name=script.stem, command=command, folder=folder, source=context.source(script)))
    for path in sorted([*folder.glob("bin/*"), *folder.glob("script/*")]):
        if path != application and path.is_file() and re.match(r"#!.*\bperl\b", text_of(path, 200)):
            where = path.relative_to(folder).as_posix()
            runs.append(
                RunPlan(
                    name=path.stem,
                    command=("perl", "-Ilib", where),
                    folder=folder,
                    source=context.source(path),
                    rank=Rank.COMMAND,
                )
            )
    return Plan(prepare=_steps(context), runs=tuple(runs))


def _mojolicious(folder: Path) -> Path | None:
    """Return the script of a Mojolicious application (its "Growing" guide): `script/NAME`, whatever the name."""
    found = [path for path in sorted(folder.glob("script/*"))[:20] if path.is_file()]
    return next((path for path in found if re.search(r"\bMojolicious::(?:Commands|Lite)\b", text_of(path))), None)


def _run(context: PlanContext, name: str, command: tuple[str, ...], path: Path, port: int) -> RunPlan:
    return RunPlan(
        name=name, command=command, folder=context.folder, source=context.source(path), kind="server", port=port,
        may_move=True, rank=Rank.FRAMEWORK,
    )  # fmt: skip


def _steps(context: PlanContext) -> tuple[PrepareStep, ...]:
    """What a cpanfile names is installed into `local`, where cpanm is there to do it."""
    path = context.folder / "cpanfile"
    if (
        not path.is_file()
        or "cpanm" not in context.tools
        or not re.search(r"^[ \t]*requires\b", text_of(path), re.MULTILINE)
    ):
        return ()
    local = context.folder / "local"
    needed = None if local.is_dir() else "there is no folder local"
    command = ("cpanm", "--quiet", "--notest", "-L", "local", "--installdeps", ".")
    return (
        PrepareStep(
            title="install modules", command=command, folder=context.folder, source=context.source(path), needed=needed
        ),
    )
