"""Steps held against the checkout before they are offered: a command that cannot work there is left out of its step."""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from pathlib import Path

from msgspec.structs import replace

from dokimon.core.planning.workspaces import scripts_of
from dokimon.core.report.model import Diagnosis, Remedy

_MANIFESTS = {
    "npm": ("package.json",), "npx": ("package.json",), "yarn": ("package.json",), "pnpm": ("package.json",),
    "composer": ("composer.json",), "bundle": ("Gemfile",), "cargo": ("Cargo.toml",), "mix": ("mix.exs",),
    "make": ("Makefile", "makefile", "GNUmakefile"), "cmake": ("CMakeLists.txt",), "rebar3": ("rebar.config",),
    "gradle": ("build.gradle", "build.gradle.kts"), "mvn": ("pom.xml",), "autoreconf": ("configure.ac", "configure.in"),
}  # fmt: skip
"""Commands, and the files of which one must lie where they are called."""


def workable(found: Sequence[Diagnosis], folder: Path) -> tuple[Diagnosis, ...]:
    """Return the causes with steps that can be carried out in the folder of the project, each said once."""
    return tuple(
        replace(each, remedies=tuple(dict.fromkeys(_held(step, folder) for step in each.remedies))) for each in found
    )


def _held(step: Remedy, folder: Path) -> Remedy:
    return step if step.command is None or _can_work(step.command, folder) else Remedy(step.say)


def _can_work(command: str, folder: Path) -> bool:
    try:
        words = shlex.split(command)
    except ValueError:
        return True  # a line for the shell, of its own kind
    words = words[1:] if words[:1] == ["sudo"] else words
    name = words[0] if words else ""
    if name in _MANIFESTS and not any((folder / each).is_file() for each in _MANIFESTS[name]):
        return False
    if words[:2] == ["npm", "run"] and words[2:] and "--workspace" not in words:
        return words[2] in scripts_of(folder)
    if "-r" in words[:-1] and "pip" in words:
        return (folder / words[words.index("-r") + 1]).is_file()
    if name in ("bash", "sh", "node", "python", "python3") and words[1:] and not words[1].startswith("-"):
        return (folder / words[1]).exists()
    return name != "php" or words[1:2] != ["artisan"] or (folder / "artisan").is_file()
