"""Go: the main packages of a module."""

from __future__ import annotations

import re
from pathlib import Path

from dokimon.core.expressions import expression
from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, PlanContext, Rank, RunPlan

_NOT_LOOKED_AT = ("vendor", "testdata", "examples", "example", "test", "tests", "tools", "hack", "scripts")
_MAIN = expression(r"^func\s+main\s*\(\s*\)", re.MULTILINE)


def plan(context: PlanContext) -> Plan | None:
    """Return the plan for a `go.mod`, or for a lone program; None for any other folder."""
    folder = context.folder
    packages = [folder, *sorted(path for path in folder.glob("cmd/*") if path.is_dir())]
    if not any(_main_file(package) for package in packages):  # neither at the top nor below cmd
        packages = sorted(path for path in folder.glob("*") if path.is_dir() and _is_looked_at(path.name))
    if not (folder / "go.mod").is_file() and not _main_file(folder):
        return None
    runs = []
    for package in packages:
        main = _main_file(package)
        if main is None:
            continue
        path, line = main
        where = "." if package == folder else f"./{package.relative_to(folder).as_posix()}"
        if not (folder / "go.mod").is_file():
            where = path.name
        name = _module_name(folder) if package == folder else package.name
        runs.append(
            RunPlan(
                name=name,
                command=("go", "run", where),
                folder=folder,
                source=context.source(path, line),
                rank=Rank.COMMAND if (folder / "go.mod").is_file() else Rank.FILE,
            )
        )
    own = _module_name(folder)
    names = {own, folder.name}
    runs = [run for run in runs if run.name[0] != "."]
    runs.sort(
        key=lambda run: (run.command[-1] != ".", run.name not in names, run.name not in _USUAL, _helps(run), run.name)
    )
    return Plan(prepare=(), runs=tuple(runs))


def _is_looked_at(name: str) -> bool:
    """Whether a folder may hold the program: go passes over names that begin with `_` or `.` (`go help packages`)."""
    return name not in _NOT_LOOKED_AT and not name.startswith(("_", "."))


def _helps(run: RunPlan) -> bool:
    return re.search(r"gen|doc|tool|test|bench|example|lint|mock", run.name) is not None


_USUAL = ("server", "app", "api", "web", "main", "cli")


def _main_file(package: Path) -> tuple[Path, int] | None:
    for path in sorted(package.glob("*.go")):
        text = text_of(path)
        found = _MAIN.search(text)
        if re.search(r"^//\s*(?:go:build|\+build)\s+(?:ignore|tools|none)\w*", text, re.MULTILINE):
            continue  # it is run by name, and no part of the package
        if found and not path.name.endswith("_test.go") and re.search(r"^package\s+main\b", text, re.MULTILINE):
            return path, text.count("\n", 0, found.start()) + 1
    return None


def _module_name(folder: Path) -> str:
    found = re.search(r"^module\s+(\S+)", text_of(folder / "go.mod"), re.MULTILINE)
    if not found:
        return folder.name
    path = re.sub(r"/v\d+$", "", found[1])
    return path.rpartition("/")[2]
