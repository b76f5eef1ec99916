"""C and C++: configure, build and run what CMake or Meson builds."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

from dokimon.core.expressions import expression
from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, PlanContext, PrepareStep, Rank, RunPlan
from dokimon.core.planning.planners.freshness import older_than
from dokimon.core.planning.planners.names import folder_names

_CMAKE_PROGRAM = expression(
    r"^[ \t]*add_executable\s*\(\s*(\"?)([\w.+-]+)\1(?!\s+(?:IMPORTED|ALIAS))", re.MULTILINE | re.IGNORECASE
)
_PROJECT = expression(r"^[ \t]*project\s*\(\s*\"?([\w.+-]+)", re.MULTILINE | re.IGNORECASE)
BESIDE = expression(
    r"(?i:test|regress|[am]san$|(?:^|[/_.-])(?:docs?|fuzz(?:er|ing)?|bench(?:marks?)?|examples?|samples?|demos?|jni)(?:$|[/_.-]))"
    r"|[a-z](?:Fuzz|Bench|Example|Demo)"
)
"""Programs that are not the project itself, by their names or folders."""

_MESON_PROGRAM = expression(
    r"^[ \t]*(?:\w+\s*=\s*)?executable\s*\(\s*(?:'([^']+)'|(meson\.project_name\s*\(\s*\)))", re.MULTILINE
)


def plan(context: PlanContext) -> Plan | None:
    """Return the plan for a CMake or Meson project; None for any other folder."""
    if "tools/cmake/project.cmake" in text_of(context.folder / "CMakeLists.txt"):
        return None  # firmware, which has a planner of its own
    return _cmake(context) or _meson(context)


def _cmake(context: PlanContext) -> Plan | None:
    folder = context.folder
    lists = folder / "CMakeLists.txt"
    if not lists.is_file():
        return None
    configure, build, binaries = _cmake_commands(folder)
    cache = binaries / "CMakeCache.txt"
    source = context.source(lists)
    programs = [
        (match[2], path, text.count("\n", 0, match.start(2)) + 1)
        for path in [lists, *sorted(folder.glob("*/CMakeLists.txt")), *sorted(folder.glob("*/*/CMakeLists.txt"))]
        if not path.is_relative_to(binaries)
        for text in [text_of(path)]
        for match in _CMAKE_PROGRAM.finditer(text)
        if not BESIDE.search(match[2]) and not BESIDE.search(path.parent.relative_to(folder).as_posix())
    ]
    project = _PROJECT.search(text_of(lists))
    own = {*folder_names(folder), project[1].lower() if project else ""}
    everything = "\n".join(text_of(path) for path in [lists, *sorted(folder.glob("*/CMakeLists.txt"))])
    installed = set(" ".join(re.findall(r"(?i)\binstall\s*\(\s*TARGETS\s([^)]*)", everything)).split())
    makes_library = _names_library(everything, "add_library", own)
    programs.sort(key=lambda each: (each[0].lower() not in own, each[0] not in installed, each[1].parent != folder))
    if not programs:
        return Plan()
    outputs = [_output(binaries, path, folder, name) for name, path, _ in programs]
    steps = (
        PrepareStep(
            title="configure",
            command=configure,
            folder=folder,
            source=source,
            needed=older_than(cache, [lists]),
            makes=(cache,),
        ),
        PrepareStep(
            title="build",
            command=build,
            folder=folder,
            source=source,
            needed=_why_build(outputs, folder, binaries),
            reason="what was built is newer than its sources",
        ),
    )
    helping = {name for name, _, _ in programs if makes_library and name.lower() not in own and name not in installed}
    return Plan(prepare=steps, runs=_runs(context, programs, outputs, helping))


def _runs(
    context: PlanContext, programs: list[tuple[str, Path, int]], outputs: list[Path], helping: set[str]
) -> tuple[RunPlan, ...]:
    """Return a run for each program (its name, and the file and line that name it) and the file that is built for it."""
    return tuple(
        RunPlan(
            name=name,
            command=(str(target),),
            folder=context.folder,
            source=context.source(path, line),
            rank=_rank(path, context.folder, helps=name in helping),
        )
        for (name, path, line), target in zip(programs, outputs, strict=True)
    )


def _names_library(text: str, function: str, own: set[str]) -> bool:
    """Whether the files of a project make a library that is called as it is."""
    made = re.findall(rf"(?i)\b{function}\s*\(\s*['\"]?([\w.+-]+|\$\{{PROJECT_NAME\}})", text)
    named = {each for name in own if name for each in (name, f"lib{name}", name.removeprefix("lib"), "${project_name}")}
    return any(name.lower() in named for name in made)


def _output(binaries: Path, path: Path, folder: Path, name: str) -> Path:
    """Return the file that a target makes: its list may call it otherwise (cmake-properties(7), OUTPUT_NAME)."""
    properties = re.search(
        rf"set_target_properties\s*\(\s*{re.escape(name)}\s+PROPERTIES\b[^)]*?\bOUTPUT_NAME\s+\"?([\w.+-]+)",
        text_of(path),
        re.IGNORECASE,
    )
    called = properties[1] if properties else name
    place = re.search(
        r"^[ \t]*set\s*\(\s*(?:CMAKE_RUNTIME_OUTPUT_DIRECTORY|EXECUTABLE_OUTPUT_PATH)\s+"
        r"\"?\$\{(?:CMAKE|PROJECT)_(BINARY|SOURCE)_DIR\}"
        r"(/[\w./-]+)?\"?\s*\)",
        text_of(folder / "CMakeLists.txt"),
        re.MULTILINE | re.IGNORECASE,
    )
    if place is None:
        return binaries / path.parent.relative_to(folder) / called
    home = binaries if place[1].upper() == "BINARY" else folder
    return home / (place[2] or "").lstrip("/") / called


def _rank(path: Path, folder: Path, *, helps: bool) -> Rank:
    """What lies beside the project helps in its development: it is only proposed."""
    helps = helps or bool(re.search(
        r"(?i)(?:^|/)(?:tools?|misc|utils?|contrib|helpers?|scripts?)(?:/|$)",
        path.parent.relative_to(folder).as_posix(),
    ))  # fmt: skip
    return Rank.PROPOSAL if helps else Rank.COMMAND


def _cmake_commands(folder: Path) -> tuple[tuple[str, ...], tuple[str, ...], Path]:
    """Return how to configure and build, and where: by the first preset that is not hidden (cmake-presets(7))."""
    try:
        presets: Any = json.loads(text_of(folder / "CMakePresets.json") or "{}")
    except (ValueError, RecursionError):
        presets = {}
    listed = presets.get("configurePresets") if isinstance(presets, dict) else None
    for preset in listed if isinstance(listed, list) else ():
        if not isinstance(preset, dict) or preset.get("hidden") or not isinstance(preset.get("binaryDir"), str):
            continue
        name = str(preset.get("name"))
        where = preset["binaryDir"].replace("${sourceDir}", str(folder)).replace("${presetName}", name)
        if "$" not in where:
            binaries = folder / where
            return ("cmake", "--preset", name), ("cmake", "--build", str(binaries), "--parallel"), binaries
    binaries = folder / "build"
    return ("cmake", "-S", ".", "-B", "build"), ("cmake", "--build", "build", "--parallel"), binaries


def _why_build(outputs: list[Path], folder: Path, binaries: Path) -> str | None:
    sources = [path for path in folder.iterdir() if path != binaries and not path.name.startswith(".")]
    return next((why for path in outputs if (why := older_than(path, sources))), None)


def _meson(context: PlanContext) -> Plan | None:
    folder = context.folder
    script = folder / "meson.build"
    if not script.is_file():
        return None
    scripts = [script, *sorted(folder.glob("*/meson.build")), *sorted(folder.glob("*/*/meson.build"))]
    project = re.search(r"^[ \t]*project\s*\(\s*'([^']+)'", text_of(script), re.MULTILINE)
    programs = [
        (name, path, text.count("\n", 0, match.start() + len(match[0]) - 1) + 1)
        for path in scripts
        for text in [text_of(path)]
        for match in _MESON_PROGRAM.finditer(text)
        for name in [match[1] or (project[1] if project else "")]
        if name and not BESIDE.search(name) and not BESIDE.search(path.parent.relative_to(folder).as_posix())
    ]
    own = {*folder_names(folder), project[1].lower() if project else ""}
    everything = "\n".join(map(text_of, scripts))
    installed = {name for name, _, _ in programs if _is_installed(name, everything)}
    makes_library = _names_library(everything, r"(?:shared_|static_|both_)?librar(?:y|ies)", own)
    programs.sort(key=lambda each: (each[0].lower() not in own, each[0] not in installed, each[1].parent != folder))
    if not programs:
        return Plan()
    binaries = folder / "builddir"
    outputs = [binaries / path.parent.relative_to(folder) / name for name, path, _ in programs]
    source = context.source(script)
    steps = (
        PrepareStep(
            title="set up",
            command=("meson", "setup", "builddir"),
            folder=folder,
            source=source,
            needed=older_than(binaries / "build.ninja", []),
            makes=(binaries,),
        ),
        PrepareStep(
            title="build",
            command=("meson", "compile", "-C", "builddir"),
            folder=folder,
            source=source,
            needed=_why_build(outputs, folder, binaries),
        ),
    )
    helping = {name for name, _, _ in programs if makes_library and name.lower() not in own and name not in installed}
    return Plan(prepare=steps, runs=_runs(context, programs, outputs, helping))


def _is_installed(name: str, text: str) -> bool:
    """Whether Meson installs a program where people find it (its reference, "executable": `install`, `install_dir`)."""
    start = re.search(rf"\bexecutable\s*\(\s*'{re.escape(name)}'", text)
    call = text[start.start() : start.start() + 2000].partition("\n)")[0] if start else ""
    return bool(re.search(r"\binstall\s*:\s*true", call)) and "libexec" not in call
