"""What decides which copy counts: builds take the JDK of JAVA_HOME, and a tool is only as good as what it runs on."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path

import msgspec

from dokimon.core.declarations.requirement import Requirement
from dokimon.core.files import text_of
from dokimon.core.judging.comparing import held
from dokimon.core.judging.values import Judgement, Machine
from dokimon.core.machine.survey import Installation
from dokimon.core.machine.version_managers import managers
from dokimon.core.report.model import Found
from dokimon.core.versions import compiled
from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.faults import VersionFault

_JAVA = ("java", "javac")
_BUILDS = ("maven", "gradle")
_BUILD_FILES = ("build.xml", "build.sbt", "project.clj")


def java_home_decides(need: Requirement, machine: Machine) -> bool:
    """Whether a need is of the Java that a build takes, and JAVA_HOME says which that is.

    Maven, Gradle, Ant, sbt and Leiningen take the JDK of JAVA_HOME before that of PATH (their start-up scripts).
    """
    of_a_build = need.family in _BUILDS or need.source.file.rpartition("/")[2] in _BUILD_FILES
    return need.tool in _JAVA and of_a_build and bool(machine.environment.get("JAVA_HOME"))


def as_decided(need: Requirement, machine: Machine) -> Machine:
    """Return the machine as the need meets it: where JAVA_HOME decides, its copy is the one that is reached."""
    if not java_home_decides(need, machine):
        return machine
    home = Path(machine.environment["JAVA_HOME"])
    copies = [
        msgspec.structs.replace(copy, reached=_is_in(copy, home), off_path=copy.off_path and not _is_in(copy, home))
        for copy in machine.copies(need.tool)
    ]
    copies.sort(key=lambda copy: not copy.reached)
    return msgspec.structs.replace(machine, installations={**machine.installations, need.tool: copies})


def _is_in(copy: Installation, home: Path) -> bool:
    try:
        return Path(copy.program).resolve().is_relative_to(home.resolve())
    except (OSError, RuntimeError):
        return False


def with_policy(need: Requirement, machine: Machine) -> Constraint | None:
    """Return the constraint of a need; of a runtime of .NET with the policy of DOTNET_ROLL_FORWARD, which goes first."""
    policy = machine.environment.get("DOTNET_ROLL_FORWARD")
    if need.language != "runtime-rollforward" or not need.constraint or not policy:
        return need.constraint
    try:
        return compiled(need.language, f"{need.wanted.partition(' ')[0]} {policy}")
    except VersionFault:
        return need.constraint


def with_java_home(need: Requirement, machine: Machine, judgement: Judgement) -> Judgement:
    """Say that JAVA_HOME decided, where it did."""
    if not java_home_decides(need, machine):
        return judgement
    home = machine.environment["JAVA_HOME"]
    if judgement.copy is None or not _is_in(judgement.copy, Path(home)):
        what = f"JAVA_HOME names {home}, which has no {need.tool} that can be run, and decides for the build"
        return msgspec.structs.replace(judgement, verdict="missing", reason=what, copy=None)
    return msgspec.structs.replace(judgement, reason=f"{judgement.reason} (of JAVA_HOME, which decides for the build)")


def with_other_command(need: Requirement, machine: Machine, judgement: Judgement) -> Judgement:
    """What the tool's other command starts meets a need too: `python3`, where `python` is broken or another line."""
    entry = machine.catalogue.find(need.tool)
    if judgement.verdict not in ("unmet", "missing") or entry is None or need.constraint is None:
        return judgement
    for copy in machine.copies(need.tool):
        if copy.other_name in entry.commands and copy.version and not copy.fault and not copy.own:
            other = held(need.constraint, copy.version, copy)
            if other.verdict == "met":
                return msgspec.structs.replace(other, reason=f"{other.reason}, as {copy.other_name}")
    return judgement


def with_named_environment(need: Requirement, machine: Machine) -> Judgement | None:
    """A version file may name a virtual environment of pyenv's, which is no version (pyenv-virtualenv's README)."""
    if need.tool != "python" or not need.source.file.endswith(".python-version") or not need.fault:
        return None
    name = need.source.text.strip()
    if not re.fullmatch(r"[\w.-]+(?:/envs/[\w.-]+)?", name):
        return None
    roots = [root for root in managers()["pyenv"].roots_here(machine.environment) if root.is_dir()]
    if not roots:
        return None
    for root in roots:
        program = root / "versions" / name / "bin/python"
        if program.is_file():
            found = Found(path=str(program), known_by="file")
            return Judgement(verdict="met", reason=f"{name} is an environment of pyenv's, and is there", found=found)
    return Judgement(verdict="missing", reason=f"{name} is no version, and pyenv has no environment of this name here")


def with_fetched_go(need: Requirement, machine: Machine, judgement: Judgement) -> Judgement:
    """Go from 1.21 on fetches a newer Go where go.mod asks for one, unless it is told not to (go.dev, "Go Toolchains")."""
    copy = judgement.copy
    if need.tool != "go" or need.family != "golang" or judgement.verdict != "unmet" or copy is None or not copy.version:
        return judgement
    numbers = re.match(r"(\d+)\.(\d+)", copy.version)
    if numbers is None or (int(numbers[1]), int(numbers[2])) < (1, 21) or "too old" not in judgement.reason:
        return judgement
    choice, by = _go_toolchain(copy, machine.environment)
    if (choice.partition("+")[0] == "local" and choice != "local+auto") or choice == "path":
        return msgspec.structs.replace(judgement, reason=f"{judgement.reason}; {by} keeps Go from fetching a newer one")
    reason = f"{copy.version} is older, but fetches the Go that is asked for by itself (GOTOOLCHAIN={choice})"
    return msgspec.structs.replace(judgement, verdict="met", reason=reason)


def _go_toolchain(copy: Installation, environment: Mapping[str, str]) -> tuple[str, str]:
    """Return which toolchain Go takes, and who says so: the variable, the user's settings, those of this Go."""
    if value := environment.get("GOTOOLCHAIN"):
        return value, "the variable GOTOOLCHAIN"
    home = environment.get("HOME", "")
    own = Path(copy.program).resolve().parent.parent
    for path in (Path(environment.get("GOENV") or f"{home}/.config/go/env"), own / "go.env"):
        if found := re.search(r"^GOTOOLCHAIN=(\S+)", text_of(path), re.MULTILINE):
            return found[1], f"GOTOOLCHAIN in {path}"
    return "auto", ""


def with_runtime(judgement: Judgement, machine: Machine) -> Judgement:
    """A tool that would do, and whose own runtime is missing or too old, is met by nothing."""
    copy = judgement.copy
    if judgement.verdict != "met" or copy is None:
        return judgement
    entry = machine.catalogue.find(copy.tool)
    shown = f"{copy.path} ({copy.version})" if copy.version else copy.path
    if entry and entry.runs_on and not _is_there(entry.runs_on, machine):
        runtime = machine.catalogue.find(entry.runs_on)
        reason = f"{shown} is there, but {runtime.title if runtime else entry.runs_on}, on which it runs, is not"
        return Judgement(verdict="missing", reason=reason, copy=copy)
    return _on_node(copy, shown, machine) or judgement


def _is_there(runtime: str, machine: Machine) -> bool:
    if runtime not in machine.installations:
        return True  # it was not looked for
    copies = machine.copies(runtime)
    home = machine.environment.get("JAVA_HOME", "") if runtime in _JAVA else ""
    return any((copy.reached or (home and _is_in(copy, Path(home)))) and not copy.fault for copy in copies)


def _on_node(copy: Installation, shown: str, machine: Machine) -> Judgement | None:
    """What npm brought says in `engines` on which Node.js it runs (npm docs, "package.json")."""
    node = machine.reached("node")
    if not copy.engines or node is None or node.version is None or node.fault:
        return None
    try:
        wanted = compiled("npm", copy.engines)
        if wanted.admits(node.version):
            return None
    except VersionFault:
        return None
    reason = f"{shown} runs on Node.js {wanted.in_words}, and {node.version} is reached"
    return Judgement(verdict="unmet", reason=reason, copy=copy)
