"""What may explain a later difference, gathered: files, packages, variables, what commands reach, who listens."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable, Iterable, Iterator, Mapping
from pathlib import Path
from typing import NamedTuple

from dokimon.core.digests import blake2b
from dokimon.core.expressions import expression
from dokimon.core.files import text_of
from dokimon.core.machine.platform import architecture_name, system_name
from dokimon.core.machine.survey import Installation
from dokimon.core.machine.system import release_name
from dokimon.core.records.contents import Known, contents_of, contents_of_some, variables_in
from dokimon.core.report.model import Reached, Surroundings
from dokimon.core.text import clean

_OF_THE_SESSION = frozenset({
    "_", "SHLVL", "PWD", "OLDPWD", "COLUMNS", "LINES", "WINDOWID", "RANDOM", "SECONDS", "PPID", "INVOCATION_ID", "TTY",
    "STY", "JOURNAL_STREAM", "MANAGERPID", "DISPLAY", "WAYLAND_DISPLAY", "XAUTHORITY", "COLORTERM", "LS_COLORS", "PS1",
    "HISTFILE", "LOGNAME", "USER", "MAIL", "SESSION_MANAGER", "SHELL", "LESS", "PAGER", "EDITOR", "VISUAL", "COMMAND_MODE",
})  # fmt: skip
_BEGIN_SO = (
    "TERM", "SSH_", "TMUX", "XDG_SESSION", "XDG_SEAT", "XDG_VTNR", "XDG_RUNTIME", "DBUS_", "GPG_", "VSCODE_", "PROMPT",
    "XTERM", "KONSOLE_", "GNOME_", "ITERM_", "ALACRITTY_", "KITTY_", "WEZTERM_", "WT_", "VTE_", "ZELLIJ", "DESKTOP_",
    "XDG_CURRENT", "XDG_MENU", "DOKIMON_", "PYTEST_", "GITHUB_RUN", "GITHUB_JOB", "GITHUB_ACTION", "GITHUB_STEP",
    "GITHUB_ENV", "GITHUB_PATH", "GITHUB_OUTPUT",
)  # fmt: skip
"""Variables that are other in every terminal, or at every call, and say nothing of the project."""

_MOST_VARIABLES = 500


class Look(NamedTuple):
    """A look at the checkout and this machine before anything of the project is run."""

    files: Known
    all_files: bool
    listening: tuple[int, ...]


def look_before(
    root: Path, manifests: Iterable[str], known: Mapping[str, tuple[int, int, str]], *, whole: bool
) -> Look:
    """Return what lies in the checkout, and who listens here; `whole` looks at all files, not at the manifests alone."""
    ports: tuple[int, ...] = ()
    if whole:
        from dokimon.core.processes.systems.face import listening_ports  # psutil is late: `verify` needs none of it

        ports = listening_ports()
        files, every = contents_of(root, known)
        if every:
            return Look(files, True, ports)
    return Look(contents_of_some(root, manifests, known), False, ports)


def surroundings_of(
    root: Path,
    project: Path,
    look: Look,
    environment: Mapping[str, str],
    commands: tuple[Reached, ...],
    key: bytes,
) -> Surroundings:
    """Return the surroundings of a report, after all is over: what is installed now, what the runs were given.

    `key` is that of the digests of values. `project` is the folder at or below `root` that counts.
    """

    def digest(value: str) -> str:
        return blake2b(value.encode("utf-8", "surrogateescape"), key=key, digest_size=6).hexdigest()

    given = {
        name: value
        for name, value in environment.items()
        if name not in _OF_THE_SESSION and not name.startswith(_BEGIN_SO)
    }
    paths = dict.fromkeys((root, project))
    dotenvs = [path for folder in paths for path in sorted(folder.glob(".env*")) if path.is_file()]
    packages, direct = _packages(root, look)
    return Surroundings(
        system=system_name(),
        architecture=architecture_name(),
        release=release_name(),
        kernel=_kernel(),
        machine=machine_mark(key),
        commands=commands,
        variables={clean(name, 120): digest(given[name]) for name in sorted(given)[:_MOST_VARIABLES]},
        files={clean(path): seen[2] for path, seen in look.files.items()},
        all_files=look.all_files,
        variables_in={
            clean(path.relative_to(root).as_posix()): _digests(variables_in(path), digest) for path in dotenvs[:20]
        },
        packages=packages,
        direct=direct,
        listening=look.listening,
    )


def _digests(variables: Mapping[str, str], digest: Callable[[str], str]) -> dict[str, str]:
    return {clean(name, 120): digest(variables[name]) for name in sorted(variables)[:_MOST_VARIABLES]}


def _packages(root: Path, look: Look) -> tuple[dict[str, dict[str, str]], tuple[str, ...]]:
    """Return the packages by place, and those of them that the project's manifests name."""
    if not look.files:
        return {}, ()
    from dokimon.core.records.packages import (  # many a checkout has no file that it reads
        folders_with_packages,
        installed_in,
        is_lock_file,
        named_by_manifests,
        packages_in,
    )

    found: dict[str, dict[str, str]] = {}
    for path in look.files:
        if is_lock_file(path) and (versions := packages_in(root / path)):
            found[clean(path)] = versions
    for folder in folders_with_packages(root, look.files):
        for name, versions in installed_in(root / folder).items():
            found[clean(f"{folder}/{name}" if folder else name)] = versions
    return found, named_by_manifests(root, look.files, found)


def machine_mark(key: bytes) -> str:
    """Return what tells this machine from others that share a home: a digest of the number that its system has."""
    number = text_of(Path("/etc/machine-id"), 100).strip() + os.uname().nodename if hasattr(os, "uname") else ""
    return blake2b(number.encode(), key=key, digest_size=6).hexdigest()


def _kernel() -> str | None:
    return clean(os.uname().release, 80) or None if hasattr(os, "uname") else None


_SEPARATORS = expression(r"&&|\|\||[;|\n]")
_ASSIGNMENT = expression(r"\w+=\S*")
_NOT_COMMANDS = frozenset(
    {"cd", "exec", "env", "if", "then", "export", "set", "true", "test", "echo", "sh", "bash", "time"}
)
_SHELL_WORDS = expression(r"[\w./+-]+")


def commands_in(lines: Iterable[str]) -> list[str]:
    """Return the names of the commands that these command lines call, each once: the first word of each simple command."""
    return list(dict.fromkeys(word for line in lines for word in _first_words(line)))


def _first_words(line: str) -> Iterator[str]:
    for simple in _SEPARATORS.split(line[:4000]):
        words = [word for word in simple.split() if not _ASSIGNMENT.fullmatch(word)]
        name = next((word for word in words if word not in _NOT_COMMANDS), "")
        if _SHELL_WORDS.fullmatch(name) and not (
            words[0] in ("cd", "export", "set", "echo", "test") and len(words) > 1
        ):
            yield name


def reached_by(
    names: Iterable[str], installations: Mapping[str, list[Installation]], environment: Mapping[str, str]
) -> tuple[Reached, ...]:
    """Return what each of these commands starts here; a path, and what is nowhere on PATH, is left out."""
    tools = {Path(copy.path).name: copy for copies in installations.values() for copy in copies if copy.reached}
    found = []
    for name in names:
        path = None if "/" in name else shutil.which(name, path=environment.get("PATH"))
        if path is None:
            continue
        copy = tools.get(name)
        real = copy.program if copy and copy.shim else os.path.realpath(path)
        found.append(
            Reached(
                command=clean(name, 80),
                path=clean(path),
                real=clean(real) if real != path else None,
                tool=copy.tool if copy else None,
                version=copy.version if copy else None,
                mark=_mark(real),
            )
        )
    return tuple(found)


def _mark(path: str) -> str | None:
    try:
        status = Path(path).stat()
    except OSError:
        return None
    return blake2b(f"{status.st_size} {status.st_mtime_ns}".encode(), digest_size=4).hexdigest()
