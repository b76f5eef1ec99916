"""Steps held against the checkout before they are offered: a command that cannot work there is left out of its step."""

from __future__ import annotations

import re
import shlex
from collections.abc import Sequence
from pathlib import Path

from msgspec.structs import replace

from dokimon.core.expressions import expression
from dokimon.core.machine.platform import PROGRAMS_FOLDER
from dokimon.core.planning.workspaces import manifest_of, package_manager, scripts_of
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
        replace(
            each,
            cause=_below(each.cause, folder),
            remedies=tuple(
                dict.fromkeys(
                    _held(_told(step, folder), folder) for step in each.remedies if _is_of_here(step.command, folder)
                )
            ),
        )
        for each in found
    )


def _told(step: Remedy, folder: Path) -> Remedy:
    return Remedy(_below(step.say, folder), step.command and _as_here(_below(step.command, folder), folder))


_NPM = expression(
    r"\bnpm install(?P<packages>(?: (?!-)\S+)*)(?P<options>(?: --?\S+)*(?: (?!-|&)\S+)*)|\bnpm run\b|\bnpx\b"
)


def _as_here(command: str, folder: Path) -> str:
    """Return a command with the package manager and the Python of the project in place of the usual ones."""
    python = Path(".venv") / PROGRAMS_FOLDER / "python"
    if (folder / python).is_file():
        command = re.sub(r"^(?:python -m )?pip\b", f"{python} -m pip", command)
    manager = package_manager(folder, manifest_of(folder)) if _NPM.search(command) else "npm"
    return command if manager == "npm" else _NPM.sub(lambda found: _of_manager(found, manager), command)


def _of_manager(found: re.Match[str], manager: str) -> str:
    if not found[0].startswith("npm install"):
        return f"{manager} run" if found[0] == "npm run" else {"bun": "bunx"}.get(manager, f"{manager} exec")
    packages = found["options"].replace("--save-dev", "-D") if found["options"].strip() else found["packages"]
    names = any(not each.startswith("-") for each in packages.split())
    return f"{manager} {'add' if names else 'install'}{packages if names else ''}"


def _below(text: str, folder: Path) -> str:
    """Return a text in which the files of the project are told from its folder."""
    return text.replace(f"{folder}/", "").replace(f"{folder.parent}/", "../")


def _is_of_here(command: str | None, folder: Path) -> bool:
    """Whether the manifest of the program that a step calls is here: without it, the step is of another kind of project."""
    name = (command or "").partition(" ")[0]
    return name not in _MANIFESTS or any((folder / each).is_file() for each in _MANIFESTS[name])


def _held(step: Remedy, folder: Path) -> Remedy:
    return step if step.command is None or _can_work(step.command, folder) else Remedy(step.say)


def _can_work(command: str, folder: Path) -> bool:
    try:
        words = shlex.split(command)
    except ValueError:
        return True  # a line for the shell, of its own kind
    words = words[1:] if words[:1] == ["sudo"] else words
    name = words[0] if words else ""
    if words[:2] == ["npm", "run"] and words[2:] and "--workspace" not in words:
        return words[2] in scripts_of(folder)
    if "-r" in words[:-1] and "pip" in words:
        return (folder / words[words.index("-r") + 1]).is_file()
    if name in ("bash", "sh", "node", "python", "python3") and words[1:] and not words[1].startswith("-"):
        return (folder / words[1]).exists()
    return name != "php" or words[1:2] != ["artisan"] or (folder / "artisan").is_file()
