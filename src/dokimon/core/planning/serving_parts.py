"""The parts that a way starts side by side and that are to serve: each of them must listen, not only the first."""

from __future__ import annotations

import re
import shlex
from collections.abc import Iterator, Sequence
from fnmatch import fnmatchcase
from itertools import islice
from pathlib import Path
from typing import NamedTuple

from dokimon.core.expressions import expression
from dokimon.core.planning.parts import text_of_command
from dokimon.core.planning.procfile import processes_in, procfile_of
from dokimon.core.planning.serving import is_server_command
from dokimon.core.planning.workspaces import manifest_of, packages_of, scripts_of

_MOST = 40
_DEEPEST = 4
_PARALLEL = {"run-p", "npm-run-all", "npm-run-all2"}
_BY_PROCFILE = {"honcho", "foreman", "hivemind", "overmind", "nf"}
_WITH_VALUES = {
    "-n", "--names", "-c", "--prefix-colors", "-p", "--prefix", "-l", "--prefix-length", "-s", "--success", "-m",
    "--max-processes", "-t", "--timestamp-format", "--restart-tries", "--restart-after", "--kill-signal", "--cwd",
}  # fmt: skip
"""Options of `concurrently` and its like that take a word."""

_RUNS = expression(
    r"^(?:npm|pnpm|yarn|bun)(?:\s+(?:--prefix|-C|--cwd|--dir)\s+(?P<folder>\S+))?(?:\s+(?:run(?:-script)?|start)\b)?"
    r"(?:\s+(?:-w|--workspace|--filter|workspace)[ =](?P<package>\S+))?(?:\s+run)?\s+(?P<name>[\w:.-]+)"
)
_CHANGES_FOLDER = expression(r"^cd\s+(?P<folder>[^\s;&]+)\s*&&\s*(?P<rest>.+)$", re.DOTALL)


class Part(NamedTuple):
    """A command of a part, and the folder where it starts."""

    folder: Path
    command: str


def serving_parts(folder: Path, argv: Sequence[str]) -> tuple[Part, ...]:
    """Return the parts that a command starts side by side and that are to serve; none where it starts just one part."""
    parts = list(islice(_parts(folder, text_of_command(folder, argv), 0), _MOST))
    return tuple(each for each in parts if is_server_command(each.folder, each.command)) if len(parts) > 1 else ()


def _parts(folder: Path, text: str, depth: int) -> Iterator[Part]:
    """The parts that a command line comes to, those of scripts that it names among them."""
    text = text.strip()
    if depth > _DEEPEST or not text:
        return
    if moved := _CHANGES_FOLDER.match(text):
        yield from _parts(folder / moved["folder"], moved["rest"], depth + 1)
        return
    pieces = _in_background(text)
    if len(pieces) > 1:
        for piece in pieces:
            yield from _parts(folder, piece, depth + 1)
        return
    inner = _side_by_side(folder, text)
    if inner is not None:
        for each in inner:
            yield from _parts(each.folder, each.command, depth + 1)
    elif (named := _of_script(folder, text)) is not None:
        yield from _parts(named.folder, named.command, depth + 1)
    else:
        yield Part(folder, text)


def _in_background(text: str) -> list[str]:
    """Return the commands of a shell line or file that are put side by side with `&`, the last one among them."""
    if "&" not in text.replace("&&", "").replace(">&", "").replace("&>", ""):
        return [text]
    lines = [line for line in text.splitlines() if line.strip() and not line.lstrip().startswith("#")]
    pieces = [piece.strip() for line in lines for piece in re.split(r"(?<![&>|])&(?![&>\d])", line)]
    commands = [re.sub(r"^(?:wait|trap|set|exit|exec)\b.*", "", piece).strip("() ;") for piece in pieces]
    return [each for each in commands if each and not re.fullmatch(r"\w+=\S*", each)]


def _side_by_side(folder: Path, text: str) -> list[Part] | None:
    """Return what a runner of several commands is given; None where the command is no such runner."""
    words = _words(text)
    names = [Path(word).name for word in words]
    if "concurrently" in names:
        return [*_of_concurrently(folder, words[names.index("concurrently") + 1 :])]
    runner = next((name for name in names if name in _PARALLEL), None)
    if runner:
        rest = [word for word in words[names.index(runner) + 1 :] if not word.startswith("-")]
        return [Part(folder, script) for pattern in rest for script in _scripts(folder, pattern)]
    if names[:1] and names[0] in _BY_PROCFILE and "start" in names:
        path = procfile_of(folder)
        return [Part(folder, each.command) for each in processes_in(path)] if path else []
    if script := _run_in_packages(words):
        return [Part(place, found) for place in packages_of(folder) for found in _scripts(place, script)]
    return None


def _words(text: str) -> list[str]:
    try:
        return shlex.split(text, comments=False)
    except ValueError:
        return text.split()


def _of_concurrently(folder: Path, words: Sequence[str]) -> Iterator[Part]:
    given = iter(words)
    for word in given:
        if word in _WITH_VALUES:
            next(given, None)
        elif word.startswith(("npm:", "pnpm:", "yarn:", "bun:")):
            yield from (Part(folder, script) for script in _scripts(folder, word.partition(":")[2].strip("\"'")))
        elif not word.startswith("-"):
            yield Part(folder, word)


def _run_in_packages(words: Sequence[str]) -> str | None:
    """Return the script that is run in every package of the workspace side by side; None for other commands."""
    line = " ".join(words)
    return next((found[1] for pattern in _EVERY_PACKAGE if (found := pattern.match(line))), None)


_EVERY_PACKAGE = (
    expression(r"^(?:npx )?turbo (?:run )?([\w:-]+)"),
    expression(r"^(?:npx )?lerna run (?=.*--parallel)(?:--\S+ )*([\w:-]+)"),
    expression(r"^(?:npx )?nx run-many (?=.*(?:-t|--target)[ =])(?:.*?)(?:-t|--target)[ =]([\w:-]+)"),
    expression(r"^pnpm (?=.*(?:-r|--recursive)\b)(?=.*--parallel)(?:-\S+ )*(?:run )?(?:-\S+ )*([\w:-]+)"),
)


def _of_script(folder: Path, text: str) -> Part | None:
    """Return the script of package.json that a command names, with its folder; None where it names none."""
    found = _RUNS.match(text)
    if not found:
        return None
    place = folder / found["folder"] if found["folder"] else folder
    if package := found["package"]:
        named = [each for each in packages_of(folder) if package in (manifest_of(each).get("name"), each.name)]
        place = next(iter(named), folder / package if (folder / package).is_dir() else folder)
    script = next(iter(_scripts(place, found["name"])), None)
    return Part(place, script) if script else None


def _scripts(folder: Path, pattern: str) -> list[str]:
    """Return the scripts of package.json whose name a pattern fits (`dev:*`)."""
    return [text for name, text in scripts_of(folder).items() if fnmatchcase(name, pattern)]
