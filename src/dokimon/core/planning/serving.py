"""Whether a run is to serve HTTP, by what its project's files show: then it must answer, and not end by itself."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from functools import cache
from itertools import islice
from pathlib import Path

import msgspec

from dokimon.core.files import inside, text_of
from dokimon.core.planning.dev_servers import dev_server

_DATA = Path(__file__).with_name("serving.toml")
_MOST_FILES = 80
_BEGINNING = 64 * 1024
_PLACES = (
    ".",
    "src",
    "lib",
    "app",
    "server",
    "cmd",
    "cmd/*",
    "bin",
    "api",
    "src/*",
    "src/main/java/**",
    "src/main/kotlin/**",
)
"""Where sources are looked for: what starts a server stands near the top."""


class _Source(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    endings: list[str]
    patterns: list[str]


class _Pages(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    places: list[str]


class _Commands(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    servers: list[str]
    source: str


class _Known(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    packages: dict[str, list[str]]
    source: _Source
    commands: _Commands
    opened: dict[str, str]
    pages: _Pages


@cache
def _known() -> _Known:
    import tomllib

    return msgspec.convert(tomllib.loads(_DATA.read_text("utf-8")), _Known)


def http_expected(folder: Path, argv: Sequence[str]) -> str | None:
    """Return what shows that what is started in `folder` is to answer over HTTP, in words; None where nothing does."""
    for place, package in _packages(folder):
        return f"{place} names {package}"
    pattern = _pattern()
    for path in islice(_sources(folder, argv), _MOST_FILES):
        if found := pattern.search(text_of(path, _BEGINNING)):
            return f"{path.relative_to(folder).as_posix() if path.is_relative_to(folder) else path.name} has {found[0]}"
    return None


def is_server_command(folder: Path, command: str) -> bool:
    """Whether a command line serves: by its own name, or by the source file that it names."""
    known = _known().commands
    if dev_server(command) or any(re.search(pattern, command) for pattern in known.servers):
        return True
    files = [folder / word for word in command.split() if Path(word).suffix in _known().source.endings]
    texts = [text_of(path, _BEGINNING) for path in files[:3] if path.is_file()]
    return any(_pattern().search(text) or re.search(known.source, text) for text in texts)


def runs_when_opened(argv: Sequence[str]) -> str | None:
    """Return the framework of a command whose script runs only once somebody opens its page; None for others."""
    words = {Path(word).name for part in argv for word in part.split()}
    return next((name for name in _known().opened if name in words), None)


def has_root_page(folder: Path) -> bool:
    """Whether a page for the root of a server is among the files of a project."""
    return any(path.is_file() for place in _known().pages.places for path in islice(folder.glob(place), 3))


@cache
def _pattern() -> re.Pattern[str]:
    return re.compile("|".join(f"(?:{each})" for each in _known().source.patterns))


def _packages(folder: Path) -> Iterator[tuple[str, str]]:
    """The packages of a manifest beside the run that serve HTTP."""
    for name, packages in _known().packages.items():
        files = _PYTHON_LISTS if name == "requirements" else (name,)
        for path in (path for file in files for path in sorted(folder.glob(file))):
            text = text_of(path, 4 * _BEGINNING)
            for package in packages if text else ():
                quoted = rf'"{re.escape(package)}"\s*:' if name.endswith(".json") else _word(package)
                if re.search(quoted, text, re.IGNORECASE):
                    yield path.name, package


_PYTHON_LISTS = ("requirements*.txt", "requirements/*.txt", "pyproject.toml", "Pipfile", "setup.cfg", "setup.py")


def _word(package: str) -> str:
    return rf"(?<![\w./-]){re.escape(package)}(?![\w-])" if "/" not in package else re.escape(package)


def _imported(files: Sequence[Path], folder: Path) -> Iterator[Path]:
    """The files of the project that these import by name (Python) or path (JavaScript), and those that they import."""
    seen, waiting = set(files), list(files)
    while waiting and len(seen) < _MOST_FILES:
        path = waiting.pop(0)
        for each in _IMPORTS.finditer(text_of(path, _BEGINNING)):
            name = each["beside"] or each["path"] or each["name"]
            above = folder if each["name"] and not name.startswith(".") else path.parent
            base = above / (name if "/" in name else name.lstrip(".").replace(".", "/"))
            places = [base, base / "__init__.py", base / "index.js", *(Path(f"{base}{end}") for end in _MODULES)]
            found = next((place for place in places if place.is_file() and inside(place, folder)), None)
            if found and found not in seen:
                seen.add(found)
                waiting.append(found)
                yield found


_MODULES = (".py", ".js", ".mjs", ".ts")
_IMPORTS = re.compile(
    r"(?m)^\s*from\s+\.+\s+import\s+(?P<beside>\w+)|^\s*(?:from|import)\s+(?P<name>\.*\w[\w.]*)"
    r"|(?:\bfrom\s*|\brequire\(\s*|\bimport\s*\(?\s*)['\"](?P<path>\.[\w./-]*)['\"]"
)


def _sources(folder: Path, argv: Sequence[str]) -> Iterator[Path]:
    """The files that the command names first, then those near the top."""
    endings = set(_known().source.endings)
    named = [folder / word for part in argv for word in part.split() if Path(word).suffix in endings]
    yield from (path for path in named if path.is_file())
    yield from _imported([path for path in named if path.is_file()], folder)
    if named:
        return
    for place in _PLACES:
        for found in sorted(folder.glob(place)) if place != "." else [folder]:
            if found.is_dir() and "node_modules" not in found.parts:
                yield from (path for path in sorted(found.iterdir()) if path.suffix in endings and path.is_file())
