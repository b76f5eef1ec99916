"""Rust: the binaries of a Cargo package or workspace."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, PlanContext, PrepareStep, Rank, RunPlan
from dokimon.core.reading.manifest import toml_or_nothing


def plan(context: PlanContext) -> Plan | None:
    """Return the plan for a `Cargo.toml`, or None without one."""
    path = context.folder / "Cargo.toml"
    if not path.is_file():
        return None
    cargo = _toml(path)
    workspace = cargo.get("workspace")
    members = workspace.get("members", []) if isinstance(workspace, dict) else []
    folders = [context.folder] if "package" in cargo else []
    for member in members if isinstance(members, list) else []:
        folders += [each.parent for each in sorted(context.folder.glob(f"{member}/Cargo.toml"))]
    runs = [run for folder in folders for run in _binaries(context, folder)]
    if not runs:
        return Plan()
    default = cargo.get("package", {}).get("default-run") if isinstance(cargo.get("package"), dict) else None
    package = cargo.get("package")
    own = package.get("name") if isinstance(package, dict) else context.folder.name
    runs.sort(key=lambda run: (run.name != default, run.name != own, run.name not in _USUAL))
    build = PrepareStep(
        title="build",
        command=("cargo", "build"),
        folder=context.folder,
        source=context.source(path),
        needed="cargo knows what must be built",
        environment={"CARGO_TERM_COLOR": "never", "CARGO_TERM_PROGRESS_WHEN": "never"},
    )
    return Plan(prepare=(build,), runs=tuple(runs))


_USUAL = ("server", "app", "api", "cli", "main")


def _binaries(context: PlanContext, folder: Path) -> list[RunPlan]:
    """The binaries of one package (the Cargo book, "Cargo Targets"): those it names, src/main.rs, and src/bin."""
    cargo = _toml(folder / "Cargo.toml")
    package = cargo.get("package")
    name = str(package.get("name")) if isinstance(package, dict) else folder.name
    found: dict[str, Path] = {}
    listed = cargo.get("bin")
    for each in listed if isinstance(listed, list) else []:
        if isinstance(each, dict) and isinstance(each.get("name"), str):
            found[each["name"]] = folder / str(each.get("path") or f"src/bin/{each['name']}.rs")
    if (folder / "src/main.rs").is_file() and folder / "src/main.rs" not in found.values():
        found[name] = folder / "src/main.rs"
    for path in [*sorted(folder.glob("src/bin/*.rs")), *sorted(folder.glob("src/bin/*/main.rs"))]:
        if path not in found.values():
            found[path.stem if path.stem != "main" else path.parent.name] = path
    return [
        RunPlan(
            name=binary,
            command=("cargo", "run", "--quiet", "--bin", binary),
            folder=context.folder,
            source=context.source(path if path.is_file() else folder / "Cargo.toml"),
            rank=Rank.COMMAND,
        )
        for binary, path in found.items()
    ]


def _toml(path: Path) -> dict[str, Any]:
    return toml_or_nothing(text_of(path))
