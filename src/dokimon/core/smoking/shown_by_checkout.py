"""What the files of a checkout show of a failure: they say more than the words of whoever stumbled over them.

Each of these looks at what the output names, and at nothing else; none of the project is run.
"""

from __future__ import annotations

import configparser
import re
import shlex
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from itertools import islice
from pathlib import Path
from typing import NamedTuple

from dokimon.core.expressions import expression
from dokimon.core.files import bytes_of_file, text_of
from dokimon.core.planning.planners.containers import COMPOSE_FILES
from dokimon.core.planning.workspaces import manifest_of, scripts_of
from dokimon.core.report.model import Diagnosis, Remedy
from dokimon.core.smoking.looking_at_files import example_beside
from dokimon.core.text import clean

_MOST_WORDS = 400
_LONGEST = 2000
_MOST_LINES, _FIRST_LINES = 300, 100
_MOST_FILES = 400


class _Failure(NamedTuple):
    """What is looked at: the lines of the output, and the folder of the project, in the checkout at `root`."""

    lines: Sequence[str]
    root: Path
    folder: Path

    def line_with(self, *texts: str) -> str | None:
        """The last line that holds all of these texts."""
        return next((line.strip() for line in reversed(self.lines) if all(text in line for text in texts)), None)

    def paths(self) -> Iterator[Path]:
        """The paths that the output names, each once, those in the checkout."""
        words = dict.fromkeys(word for line in self.lines for word in _WORD.findall(line) if len(word) < 200)
        for word in islice(words, _MOST_WORDS):
            path = self.folder / word
            if ".." not in Path(word).parts and path.is_relative_to(self.root):
                yield path


_WORD = expression(r"(?:[\w.@~-]*/)*[\w.@~-]*\w")


def shown_by_checkout(lines: Sequence[str], root: Path, folder: Path) -> tuple[Diagnosis, ...]:
    """Return the causes that the files of the project at `folder` show, the surest first."""
    looked = lines if len(lines) <= _MOST_LINES else [*lines[:_FIRST_LINES], *lines[-_MOST_LINES:]]
    failure = _Failure([line[:_LONGEST] for line in looked], root, folder)
    found = []
    for look in _LOOKS:
        with suppress(OSError):  # what cannot be read shows nothing
            found.append(look(failure))
    return tuple(each for each in found if each is not None)


def _submodule(failure: _Failure) -> Diagnosis | None:
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


def _pointer(failure: _Failure) -> Diagnosis | None:
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
                remedies=(Remedy("fetch it (git-lfs must be installed)", "git lfs pull"),),
            )
    return None


def _broken_link(failure: _Failure) -> Diagnosis | None:
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


def _other_letters(failure: _Failure) -> Diagnosis | None:
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


def _says_missing(failure: _Failure, name: str) -> bool:
    return any(name in line and _MISSING.search(line) for line in failure.lines)


def _carriage_returns(failure: _Failure) -> Diagnosis | None:
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


def _no_first_line(failure: _Failure) -> Diagnosis | None:
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


_NODE_FILE = expression(r"Cannot find module '(\.{1,2}/[^']+|/[^']+)'(?: imported from (\S+))?")


def _module_file(failure: _Failure) -> Diagnosis | None:
    """A module of the project's own that is not where it is looked for, with what lies there instead."""
    for number, line in enumerate(failure.lines):
        found = _NODE_FILE.search(line)
        if not found or "/node_modules/" in found[1]:
            continue
        importer = found[2] or _required_by(failure.lines[number + 1 : number + 6])
        base = Path(importer).parent if importer and Path(importer).is_absolute() else failure.folder
        path = Path(found[1]) if found[1].startswith("/") else Path(_normal(base / found[1]))
        if not path.is_relative_to(failure.root) or path.exists():
            continue
        return _of_module(failure, path, found[1], line.strip(), importer)
    return None


def _normal(path: Path) -> str:
    import os

    return os.path.normpath(path)


def _required_by(lines: Sequence[str]) -> str | None:
    return next((found[1] for line in lines if (found := re.match(r"\s*- (/\S+)$", line))), None)


def _of_module(failure: _Failure, path: Path, named: str, line: str, importer: str | None) -> Diagnosis | None:
    where = path.relative_to(failure.root).as_posix()
    by = f"{Path(importer).name} names {named}" if importer else f"{named} is named"
    with_ending = next(
        (each for end in (".js", ".mjs", ".ts", "/index.js") if (each := Path(f"{path}{end}")).is_file()), None
    )
    remedies: Sequence[Remedy] = ()
    if with_ending is not None:
        cause = f"{by}, and an ES module names its files whole: {with_ending.name} is there"
        remedies = (Remedy(f"name it {named}{str(with_ending).removeprefix(str(path))}"),)
    elif copies := example_beside(path, failure.root):
        cause, remedies = f"{by}, which is not there, but an example of it is", copies
    elif "build" in scripts_of(failure.folder) and _IS_BUILT.search(where):
        cause, remedies = (
            f"{by}, which a build makes, and it has not been built",
            (Remedy("build it first", "npm run build"),),
        )
    else:
        cause, remedies = (
            f"{by}, and there is no such file in the checkout",
            (Remedy(f"bring {where}, or name what is there"),),
        )
    return Diagnosis(name="module-file", cause=clean(cause), line=clean(line, 240), remedies=tuple(remedies))


_IS_BUILT = expression(r"(?:^|/)(?:dist|build|lib|out|\.output|\.next)/")


def _broken_package(failure: _Failure) -> Diagnosis | None:
    """A package that is declared and lies in node_modules, and of which a part is missing, was not installed to its end."""
    for line in failure.lines:
        found = re.search(r"Cannot find (?:module|package) '[^']*?/node_modules/((?:@[\w.-]+/)?[\w.-]+)", line)
        found = found or re.search(r"Cannot find (?:module|package) '((?:@[\w.-]+/)?[\w.-]+)'", line)
        if found and found[1].strip(".") == "":
            continue  # `..` is a folder, and no package that a step may remove
        manifest = manifest_of(failure.folder / "node_modules" / found[1]) if found else {}
        place = failure.folder / "node_modules" / found[1] if found else None
        if found and place and manifest and place.is_symlink() and "build" in scripts_of(place):
            return Diagnosis(
                name="workspace-package-unbuilt",
                cause=f"the workspace's package {clean(found[1], 80)} has not been built",
                line=clean(line.strip(), 240),
                remedies=(Remedy("build it first", f"npm run build --workspace {found[1]}"),),
            )
        if found and manifest:
            return Diagnosis(
                name="package-broken",
                cause=f"the package {clean(found[1], 80)} lies in node_modules, and not all of it is there",
                line=clean(line.strip(), 240),
                remedies=(Remedy("install it again", f"rm -rf node_modules/{found[1]} && npm install"),),
            )
    return None


def _own_module(failure: _Failure) -> Diagnosis | None:
    """An attribute that a module of Python's own, or of the checkout's, does not have: no other package would bring it."""
    for line in reversed(failure.lines):
        found = re.search(r"AttributeError: module '([\w.]+)' has no attribute '(\w+)'", line)
        if not found:
            continue
        top, where = found[1].partition(".")[0], failure.folder / found[1].replace(".", "/")
        if where.with_suffix(".py").is_file() or where.is_dir() or (failure.folder / "src" / top).is_dir():
            cause = f"{found[1]}, a module of this checkout, has no {found[2]}"
        elif top in sys.stdlib_module_names:
            cause = (
                f"{found[1]}, which Python brings, has no {found[2]}: is it spelt right, and is the Python new enough?"
            )
        else:
            return None
        return Diagnosis(name="attribute-missing", cause=cause, line=clean(line.strip(), 240))
    return None


_UNKNOWN_HOST = expression(
    r"getaddrinfo (?:ENOTFOUND|EAI_AGAIN) (?P<host>[\w.-]+)|no such host|[Nn]ame or service not known|nodename nor servname"
    r"|Temporary failure in name resolution|could not translate host name \"(?P<other>[\w.-]+)\""
)


def _compose_host(failure: _Failure) -> Diagnosis | None:
    """A name of a service of the compose file is known among its containers alone (compose-spec, "Networks")."""
    line = next((each.strip() for each in failure.lines if _UNKNOWN_HOST.search(each)), None)
    text = next((found for name in COMPOSE_FILES if (found := text_of(failure.folder / name))), "")
    if line is None or not text:
        return None
    services = re.findall(r"(?m)^  ([\w.-]+):[ \t]*$", text)
    said = " ".join(failure.lines[-60:])
    named = [each for each in services if re.search(rf"(?<![\w.-]){re.escape(each)}(?![\w-])", said)]
    names = named or services
    if not names:
        return None
    listed = ", ".join(names[:4])
    return Diagnosis(
        name="compose-host",
        cause=f"a host has no address here: {clean(listed, 80)} is one among the containers of the compose file alone",
        line=clean(line, 240),
        remedies=(
            Remedy(f"start {clean(names[0], 60)} and publish its port", f"docker compose up -d {names[0]}"),
            Remedy("then let the project's settings name localhost in place of it"),
        ),
    )


def _unknown_host(failure: _Failure) -> Diagnosis | None:
    """The host that a line of code in a stack names, where the error itself does not."""
    for number, line in enumerate(failure.lines):
        found = _UNKNOWN_HOST.search(line)
        if not found or found["host"] or found["other"]:
            continue
        above = " ".join(failure.lines[max(number - 8, 0) : number])
        hosts = _A_HOST.findall(above)
        if hosts:
            return Diagnosis(
                name="host-unknown",
                cause=f"no host is called {clean(hosts[-1], 80)} here",
                line=clean(line.strip(), 240),
                remedies=(Remedy("is it spelt right, is this machine online, and is it a name of another network?"),),
            )
    return None


_A_HOST = expression(r"[\"'(]((?:[a-z0-9-]+\.)+[a-z][a-z0-9-]+)[\"',)]")


def _dotenv_unread(failure: _Failure) -> Diagnosis | None:
    """A variable that .env gives, and that is not there all the same: nothing has read the file."""
    given = set(re.findall(r"(?m)^\s*(?:export\s+)?(\w+)\s*=", text_of(failure.folder / ".env")))
    for line in reversed(failure.lines):
        found = _NAMES_A_VARIABLE.search(line)
        name = next((each for each in found.groups() if each), None) if found else None
        if name in given:
            return Diagnosis(
                name="dotenv-unread",
                cause=f".env gives {name}, and nothing has read it: the variable is not set where the project runs",
                line=clean(line.strip(), 240),
                remedies=(Remedy("set it from there for this shell", "set -a; . ./.env; set +a"),),
            )
    return None


_NAMES_A_VARIABLE = expression(
    r"KeyError: '(\w+)'|(?:variable|env(?:ironment)?)\b.{0,80}?\b([A-Z][A-Z0-9_]{2,})\b|\b([A-Z][A-Z0-9_]{2,}) (?:is|must)\b"
)

_LOOKS: tuple[Callable[[_Failure], Diagnosis | None], ...] = (
    _submodule, _pointer, _broken_link, _carriage_returns, _no_first_line, _broken_package, _module_file, _other_letters,
    _dotenv_unread, _compose_host, _unknown_host, _own_module,
)  # fmt: skip
