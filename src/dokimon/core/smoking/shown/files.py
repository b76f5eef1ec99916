"""Files that are not what they seem: not fetched, a link to nowhere, of other letters or line ends."""

from __future__ import annotations

import configparser
import re
import shlex
from itertools import islice
from pathlib import Path

from dokimon.core.expressions import expression
from dokimon.core.files import bytes_of_file, text_of
from dokimon.core.report.model import Diagnosis, Remedy
from dokimon.core.smoking.shown.failure import Failure
from dokimon.core.text import clean

_MOST_FILES = 400


def submodule(failure: Failure) -> Diagnosis | None:
    """A submodule that was not fetched is an empty folder (git-submodule(1))."""
    text = text_of(failure.root / ".gitmodules")
    if not text:
        return None
    modules = configparser.ConfigParser(strict=False, interpolation=None)
    try:
        modules.read_string("\n".join(line.strip() for line in text.splitlines()))
    except configparser.Error:
        return None
    named = [modules[each].get("path", "") for each in modules.sections()]
    for path in named:
        place = failure.root / path
        if not path or ".." in Path(path).parts or (place.is_dir() and any(place.iterdir())):
            continue
        word = re.compile(rf"(?<![\w-]){re.escape(Path(path).name)}(?![\w-])")
        if line := next((line.strip() for line in reversed(failure.lines) if word.search(line)), None):
            return Diagnosis(
                name="submodule-empty",
                cause=f"the submodule {clean(path, 80)} has not been fetched: its folder is empty",
                line=clean(line, 240),
                remedies=(Remedy("fetch it", "git submodule update --init --recursive"),),
            )
    return None


_POINTER = b"version https://git-lfs.github.com/spec/"


def pointer(failure: Failure) -> Diagnosis | None:
    """A file of Git LFS that was not fetched is a text of three lines that points to it (its specification)."""
    parsing = failure.line_with("JSON") or failure.line_with("parse") or failure.line_with("decode")
    candidates = [*failure.paths(), *(islice(failure.folder.iterdir(), _MOST_FILES) if parsing else ())]
    for path in candidates:
        if path.is_file() and path.stat().st_size < 300 and bytes_of_file(path, 300).startswith(_POINTER):
            where = path.relative_to(failure.root).as_posix()
            return Diagnosis(
                name="lfs-pointer",
                cause=f"{clean(where, 120)} is a pointer of Git LFS: the file itself has not been fetched",
                line=clean(failure.line_with(path.name) or parsing or "", 240) or None,
                remedies=(Remedy("fetch it (git-lfs must be installed)", "git lfs install --local && git lfs pull"),),
            )
    return None


def broken_link(failure: Failure) -> Diagnosis | None:
    """A link in the checkout that points to what is not there."""
    for path in failure.paths():
        if path.is_symlink() and not path.exists():
            where = path.relative_to(failure.root).as_posix()
            return Diagnosis(
                name="broken-link",
                cause=f"{clean(where, 120)} is a link to {clean(str(path.readlink()), 120)}, and that is not there",
                line=clean(failure.line_with(path.name) or "", 240) or None,
                remedies=(Remedy("bring what it points to, or put a file in its place"),),
            )
    return None


def other_letters(failure: Failure) -> Diagnosis | None:
    """A name that is there in other letters is another file here, and the same one on other systems."""
    for path in failure.paths():
        if path.exists() or not path.parent.is_dir() or len(path.name) < 3 or not _says_missing(failure, path.name):
            continue
        beside = islice(path.parent.iterdir(), _MOST_FILES)
        other = next((each.name for each in beside if each.name.lower() == path.name.lower()), None)
        if other:
            return Diagnosis(
                name="other-letters",
                cause=f"{path.name} is called {clean(other, 80)} here: upper and lower case are not the same",
                line=clean(failure.line_with(path.name) or "", 240) or None,
                remedies=(Remedy(f"name it {clean(other, 80)}, or rename the file"),),
            )
    return None


def _as_word(where: str) -> str:
    """Return a path as one word of a shell line, which no command takes for an option."""
    return shlex.quote(f"./{where}" if where.startswith("-") else where)


_MISSING = expression(
    r"(?i)no such file|cannot find|not found|does not exist|ENOENT|no module|can't open|could not (?:find|open)"
)


def _says_missing(failure: Failure, name: str) -> bool:
    return any(name in line and _MISSING.search(line) for line in failure.lines)


def carriage_returns(failure: Failure) -> Diagnosis | None:
    """A script whose first line ends as on Windows names an interpreter that is nowhere (execve(2))."""
    for path in failure.paths():
        if path.is_file() and re.match(rb"#![^\n]*\r\n", bytes_of_file(path, 200)):
            where = path.relative_to(failure.root).as_posix()
            return Diagnosis(
                name="carriage-returns",
                cause=f"the lines of {clean(where, 120)} end as on Windows (CRLF), and its first names no program so",
                line=clean(failure.line_with(path.name) or "", 240) or None,
                remedies=(Remedy("give it the line ends of Unix", f"sed -i 's/\\r$//' {_as_word(where)}"),),
            )
    return None


_JAVASCRIPT = re.compile(
    r"^\s*(?:'use strict'|\"use strict\"|import\s.+from\s|(?:const|let|var)\s+[\w{}, ]+\s*=\s*require\()", re.M
)


def no_first_line(failure: Failure) -> Diagnosis | None:
    """A script without a first line that names its program is run by the shell (execvp(3))."""
    line = next((each.strip() for each in failure.lines if _OF_A_SHELL.search(each)), None)
    for path in failure.paths() if line else ():
        text = text_of(path, 4000) if path.is_file() else ""
        if path.name in (line or "") and text and not text.startswith("#!") and _JAVASCRIPT.search(text):
            where = path.relative_to(failure.root).as_posix()
            return Diagnosis(
                name="no-first-line",
                cause=f"{clean(where, 120)} is JavaScript, and no first line says so: the shell runs it",
                line=clean(line, 240) if line else None,
                remedies=(
                    Remedy("begin it with #!/usr/bin/env node, or start it with node", f"node {_as_word(where)}"),
                ),
            )
    return None


_OF_A_SHELL = expression(
    r"Syntax error: |syntax error near|: (?:const|import|let|var|require|'use strict'): (?:command )?not found"
)
