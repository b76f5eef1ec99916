"""Whether a way starts several parts side by side, and how many; and whether its script asks something."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

from dokimon.core.files import text_of
from dokimon.core.planning.workspaces import scripts_of

_RUNNERS = re.compile(
    r"\b(?:concurrently|npm-run-all|run-p|turbo|nx|lerna|foreman|honcho|overmind|hivemind|node-foreman|nf|pm2|wsrun|wireit"
    r"|stmux|parallel|mprocs)\b|make\b.*\s-j|&\s*wait\b|(?<![&>|])&(?![&>\d])"
)
_BEGINNING = 16 * 1024
"""Of a script: what starts it all stands near the top."""

_SCRIPTS = {"npm", "pnpm", "yarn", "bun"}


def text_of_command(folder: Path, argv: Sequence[str]) -> str:
    """Return what a command comes to: the script of package.json that it names, the shell file it starts, else itself."""
    words = [word for part in argv for word in part.split()]
    inside = words[2:] if words[:2] in (["/bin/sh", "-c"], ["sh", "-c"]) else words
    if inside and Path(inside[0]).name in _SCRIPTS:
        names = [word for word in inside[1:] if word not in ("run", "--silent", "-s")]
        return scripts_of(folder).get(names[0], "")[:_BEGINNING] if names else ""
    file = next((folder / word for word in inside if word.endswith((".sh", ".bash"))), None)
    if file and file.is_file():
        return text_of(file, _BEGINNING)
    return " ".join(inside)


def starts_several(folder: Path, argv: Sequence[str]) -> bool:
    """Whether a command starts several parts side by side."""
    return bool(_RUNNERS.search(text_of_command(folder, argv)))


def background_parts(folder: Path, argv: Sequence[str]) -> int:
    """Return how many parts a shell line puts side by side with `&` and waits for; 0 where it does not."""
    text = text_of_command(folder, argv)
    if not re.search(r"(?m)(?:^|[;&]|\s)wait\b", text):
        return 0
    return len(re.findall(r"(?<![&>|])&(?![&>\d])", text))


_ASKS = re.compile(
    r"(?m)^[ \t]*(?:if[ \t]+|while[ \t]+)?read[ \t]+(?:-\w+[ \t]+){0,9}-\w*p\b|^[ \t]*select[ \t]+\w+[ \t]+in\b"
)


def asks_in_shell(folder: Path, argv: Sequence[str]) -> str | None:
    """Return the line of a shell script by which it asks something: without a terminal, bash does not print the question."""
    text = text_of_command(folder, argv)
    found = _ASKS.search(text)
    return text[found.start() :].strip().partition("\n")[0] if found else None
