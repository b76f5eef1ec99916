"""The packages of a workspace of JavaScript: `workspaces` of package.json (docs.npmjs.com), pnpm-workspace.yaml."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping
from itertools import islice
from pathlib import Path
from typing import Any

from dokimon.core.declarations.readers.node import LOCK_FILES, PACKAGE_MANAGERS
from dokimon.core.files import text_of

_LARGEST = 1024 * 1024
_MOST = 40
_MOST_IN_ALL = 200


def object_in(path: Path) -> dict[str, Any]:
    """Return the object that a file of JSON has; nothing where there is none that can be read."""
    try:
        data = json.loads(text_of(path, _LARGEST) or "{}")
    except (ValueError, RecursionError):
        return {}
    return data if isinstance(data, dict) else {}


def manifest_of(folder: Path) -> dict[str, Any]:
    """Return what the package.json of a folder says."""
    return object_in(folder / "package.json")


def scripts_of(folder: Path) -> dict[str, str]:
    """Return the scripts of the package.json of a folder, by name."""
    scripts = manifest_of(folder).get("scripts")
    return {name: text for name, text in scripts.items() if isinstance(text, str)} if isinstance(scripts, dict) else {}


def package_manager(folder: Path, package: Mapping[str, Any]) -> str:
    """Return the package manager of a folder: the one that its package.json names, else that of its lock file, else npm."""
    named = str(package.get("packageManager", "")).partition("@")[0]
    if named in PACKAGE_MANAGERS:
        return named
    return next((tool for lock, tool in LOCK_FILES.items() if (folder / lock).is_file()), "npm")


def packages_of(folder: Path) -> list[Path]:
    """Return the folders of the packages of the workspace whose root this folder is, in a fixed order."""
    globs: list[str] = []
    workspaces = manifest_of(folder).get("workspaces")
    if isinstance(workspaces, dict):
        workspaces = workspaces.get("packages")
    if isinstance(workspaces, list):
        globs += [each for each in workspaces if isinstance(each, str)]
    globs += re.findall(r"(?m)^\s*-\s*[\"']?([^\"'\s#!]+)", text_of(folder / "pnpm-workspace.yaml", _LARGEST))
    root = folder.resolve()
    plain = (each.removeprefix("./").strip("/").replace("**", "*") for each in globs[:20])
    found = (path for each in plain if _is_below(each) for path in sorted(folder.glob(each))[:_MOST])
    # A link may lead out of the checkout: nothing is read there, and nothing built.
    own = (path for path in found if (path / "package.json").is_file() and path.resolve().is_relative_to(root))
    return list(islice(dict.fromkeys(path for path in own if "node_modules" not in path.parts), _MOST_IN_ALL))


def root_of_workspace(folder: Path, top: Path) -> Path | None:
    """Return the root of the workspace that a folder is a package of, at or below `top`; None where it is none of any."""
    above = (path for path in folder.parents if path.is_relative_to(top))
    return next((path for path in above if folder in packages_of(path)), None)


def _is_below(pattern: str) -> bool:
    return bool(pattern) and "\0" not in pattern and ".." not in Path(pattern).parts


def unbuilt_packages(folder: Path) -> Iterator[Path]:
    """Yield the packages that others of the workspace need and whose entry is not there yet, each after what it needs."""
    packages = {path: manifest_of(path) for path in packages_of(folder)}
    by_name = {str(manifest.get("name")): path for path, manifest in packages.items()}
    needed = {name for manifest in packages.values() for name in _needs(manifest) if name in by_name}
    seen: set[Path] = set()

    def visit(path: Path) -> Iterator[Path]:
        if path in seen:
            return
        seen.add(path)
        for name in _needs(packages[path]):
            if name in by_name:
                yield from visit(by_name[name])
        entries = [path / entry for entry in _entries(packages[path])]
        if "build" in scripts_of(path) and entries and not any(entry.exists() for entry in entries):
            yield path

    for name in sorted(needed):
        yield from visit(by_name[name])


def _needs(manifest: dict[str, Any]) -> list[str]:
    tables = (manifest.get(key) for key in ("dependencies", "devDependencies", "peerDependencies"))
    return [name for table in tables if isinstance(table, dict) for name in table]


_BUILT = re.compile(r"^(?:\./)?(?:dist|build|lib|out|esm|cjs|es)/[^*]*\.(?:[cm]?js|jsx)$")


def _entries(manifest: dict[str, Any]) -> list[str]:
    """The files of a package that its `main`, `module` and `exports` name (nodejs.org, packages) and that a build makes."""
    named = [manifest.get("main"), manifest.get("module"), *_texts(manifest.get("exports"), 0)]
    return list(dict.fromkeys(each for each in named if isinstance(each, str) and _BUILT.match(each)))


def _texts(value: Any, depth: int) -> list[str]:
    if isinstance(value, str):
        return [value]
    if isinstance(value, dict) and depth < _DEEPEST:
        return [text for each in value.values() for text in _texts(each, depth + 1)]
    return []


_DEEPEST = 5
