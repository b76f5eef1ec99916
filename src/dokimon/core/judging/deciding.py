"""What decides which copy counts: builds take the JDK of JAVA_HOME, and a tool is only as good as what it runs on."""

from __future__ import annotations

from pathlib import Path

import msgspec

from dokimon.core.declarations.requirement import Requirement
from dokimon.core.judging.values import Judgement, Machine
from dokimon.core.machine.survey import Installation
from dokimon.core.versions import compiled
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


def with_java_home(need: Requirement, machine: Machine, judgement: Judgement) -> Judgement:
    """Say that JAVA_HOME decided, where it did."""
    if not java_home_decides(need, machine):
        return judgement
    home = machine.environment["JAVA_HOME"]
    if judgement.copy is None or not _is_in(judgement.copy, Path(home)):
        what = f"JAVA_HOME names {home}, which has no {need.tool} that can be run, and decides for the build"
        return msgspec.structs.replace(judgement, verdict="missing", reason=what, copy=None)
    return msgspec.structs.replace(judgement, reason=f"{judgement.reason} (of JAVA_HOME, which decides for the build)")


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
