"""The packages of a project, by name and version: what its lock files pin, and what is installed for it."""

from __future__ import annotations

import os
import re
import tomllib
from collections.abc import Callable, Iterable, Iterator, Mapping
from functools import cache
from pathlib import Path, PurePosixPath
from typing import Any, NamedTuple

import msgspec

from dokimon.core.expressions import expression
from dokimon.core.files import bytes_of_file
from dokimon.core.text import clean

_LARGEST_LOCK = 16 * 1024 * 1024
_LARGEST_MANIFEST = 1024 * 1024
_MOST_PACKAGES = 20_000
_MOST_FOLDERS = 40

Versions = dict[str, str]
"""Version by name; where several versions of one package are there, all of them, in order."""


class _File(NamedTuple):
    """How the packages in a file are read: by a pattern, or by the function of a shape."""

    pattern: str
    shape: str
    tool: str


_ENDINGS = (
    "lock", "lock.json", "lock.yaml", ".lockfile", ".locked", "shrinkwrap.json", "installed.json", "go.mod",
    "constraints.txt", "requirements.txt", "requirements-dev.txt", "pylock.toml",
)  # fmt: skip
"""How the names of all these files end: most files need no table to be told apart from them."""


@cache
def _files() -> dict[str, _File]:
    table = tomllib.loads(Path(__file__).with_name("packages.toml").read_text("utf-8"))
    entries = [
        (each["names"], _File(each.get("pattern", ""), each.get("shape", ""), each["tool"])) for each in table["file"]
    ]
    return {name: file for names, file in entries for name in names}


def is_lock_file(path: str) -> bool:
    """Whether a file says which packages a project pins."""
    return path.endswith(_ENDINGS) and path.rpartition("/")[2] in _files()


_INSTALLED = {"node_modules": "node", "vendor": "php", ".venv": "python", "venv": "python", "env": "python"}


def tool_of(place: str) -> str | None:
    """Return the tool that runs with the packages of a place: a lock file, or a folder in which they are installed."""
    name = place.rpartition("/")[2]
    file = _files().get(name)
    return file.tool if file else _INSTALLED.get(name)


def is_installed(place: str) -> bool:
    """Whether a place is a folder in which packages are installed, and not a file that pins them."""
    return place.rpartition("/")[2] in _INSTALLED


def packages_in(path: Path) -> Versions | None:
    """Return the packages that a lock file names, or None where it cannot be read."""
    file = _files().get(path.name)
    if file is None:
        return None
    try:
        content = bytes_of_file(path, _LARGEST_LOCK)
        pairs = _SHAPES[file.shape](msgspec.json.decode(content)) if file.shape else _by_pattern(file, content)
        return _joined(pairs)
    except (OSError, ValueError, AttributeError, TypeError, KeyError, RecursionError):
        return None


def installed_in(folder: Path) -> dict[str, Versions]:
    """Return what is installed for the project in a folder, by the place below it: what tools wrote there themselves."""
    found: dict[str, Versions] = {}
    modules = folder / "node_modules"
    if modules.is_dir():
        found["node_modules"] = packages_in(modules / ".package-lock.json") or _by_folders(folder, modules)
    for name in (".venv", "venv", "env"):
        if (folder / name / "pyvenv.cfg").is_file():
            found[name] = _of_environment(folder / name)
    if (listed := packages_in(folder / "vendor/composer/installed.json")) is not None:
        found["vendor"] = listed
    return found


def _joined(pairs: Iterable[tuple[str, str]]) -> Versions:
    found: dict[str, set[str]] = {}
    for name, version in pairs:
        found.setdefault(clean(name, 120), set()).add(clean(version, 60))
        if len(found) > _MOST_PACKAGES:
            break
    return {name: ", ".join(sorted(found[name])) for name in sorted(found)}


def _by_pattern(file: _File, content: bytes) -> Iterator[tuple[str, str]]:
    text = content.decode("utf-8", "replace").replace("\r\n", "\n")
    return ((each["name"], each["version"]) for each in re.finditer(file.pattern, text, re.MULTILINE))


def _npm(lock: Any) -> Iterator[tuple[str, str]]:
    """A lock file of npm: a table of places since version 2, nested dependencies before (npm-package-lock.json(5))."""
    places = lock.get("packages")
    if places is not None:
        for place, entry in places.items():
            if place and not entry.get("link") and isinstance(version := entry.get("version"), str):
                yield place.rpartition("node_modules/")[2], version
        return
    waiting = [lock.get("dependencies") or {}]
    while waiting:
        for name, entry in waiting.pop().items():
            if isinstance(version := entry.get("version"), str):
                yield name, version
            waiting += [entry["dependencies"]] if isinstance(entry.get("dependencies"), dict) else []


def _composer(lock: Any) -> Iterator[tuple[str, str]]:
    listed = [*(lock.get("packages") or ()), *(lock.get("packages-dev") or ())] if isinstance(lock, dict) else lock
    return ((str(each["name"]), str(each["version"])) for each in listed if "version" in each and "name" in each)


def _nuget(lock: Any) -> Iterator[tuple[str, str]]:
    tables = lock["dependencies"].values()
    return ((name, str(each["resolved"])) for table in tables for name, each in table.items() if "resolved" in each)


def _pipfile(lock: Any) -> Iterator[tuple[str, str]]:
    tables = [lock.get("default") or {}, lock.get("develop") or {}]
    versions = ((name, str(each.get("version", ""))) for table in tables for name, each in table.items())
    return ((name, version.lstrip("=")) for name, version in versions if version)


_SHAPES: Mapping[str, Callable[[Any], Iterator[tuple[str, str]]]] = {
    "npm": _npm, "composer": _composer, "nuget": _nuget, "pipfile": _pipfile,
}  # fmt: skip


def _by_folders(folder: Path, modules: Path) -> Versions:
    """Return the packages that the project names, by what lies in their folders: managers other than npm."""
    try:
        manifest = msgspec.json.decode(bytes_of_file(folder / "package.json"))
        names = [name for key in ("dependencies", "devDependencies") for name in manifest.get(key) or ()]
    except (OSError, ValueError, AttributeError, TypeError):
        names = []
    found = {}
    for name in sorted({each for each in names if isinstance(each, str)})[:500]:
        if PurePosixPath(name).is_absolute() or ".." in name.split("/"):
            continue
        try:
            version = msgspec.json.decode(bytes_of_file(modules / name / "package.json"))["version"]
        except (OSError, ValueError, KeyError, TypeError):
            continue
        found[clean(name, 120)] = clean(str(version), 60)
    return found


def _of_environment(folder: Path) -> Versions:
    """Return what is installed in a virtual environment (PyPA: recording installed projects, the `.dist-info` directory)."""
    pairs = []
    for place in sorted(folder.glob("lib*/python3*/site-packages"))[:2]:
        try:
            entries = os.listdir(place)  # noqa: PTH208
        except OSError:
            continue
        for entry in entries:
            name, dash, version = entry.removesuffix(".dist-info").partition("-")
            if dash and entry.endswith(".dist-info"):
                pairs.append((name.lower().replace("_", "-"), version))
    return _joined(pairs)


_MANIFESTS = (
    *("package.json", "composer.json", "pyproject.toml", "Pipfile", "requirements.in", "requirements.txt", "Gemfile"),
    *("Cargo.toml", "mix.exs", "pubspec.yaml", "build.gradle", "build.gradle.kts", "Podfile", "deno.json"),
)
_NAME = expression(r"@?[A-Za-z0-9][\w.-]*(?:/[\w.-]+)?")


def named_by_manifests(root: Path, files: Iterable[str], packages: Mapping[str, Versions]) -> tuple[str, ...]:
    """Return the packages that the project's own manifests name: the others came with these."""
    known = {name for versions in packages.values() for name in versions}
    found: set[str] = set()
    for path in [each for each in files if each.rpartition("/")[2] in _MANIFESTS][:_MOST_FOLDERS] if known else ():
        try:
            text = bytes_of_file(root / path, _LARGEST_MANIFEST).decode("utf-8", "replace")
        except OSError:
            continue
        found |= known.intersection(_NAME.findall(text))
    return tuple(sorted(found))


def folders_with_packages(root: Path, files: Iterable[str]) -> list[str]:
    """Return the folders of the checkout, relative to its root, in which something may be installed."""
    marks = ("package.json", "composer.json", "pyproject.toml", "requirements.txt", "manage.py", "setup.py")
    found = {path.rpartition("/")[0] for path in files if path.rpartition("/")[2] in marks}
    return sorted({"", *found})[:_MOST_FOLDERS]
