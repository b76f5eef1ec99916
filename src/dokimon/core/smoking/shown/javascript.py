"""Modules and packages of JavaScript that are not where they are looked for."""

from __future__ import annotations

import os
import re
from collections.abc import Sequence
from pathlib import Path

from dokimon.core.expressions import expression
from dokimon.core.files import text_of
from dokimon.core.planning.workspaces import manifest_of, scripts_of
from dokimon.core.report.model import Diagnosis, Remedy
from dokimon.core.smoking.looking_at_files import example_beside
from dokimon.core.smoking.shown.failure import Failure
from dokimon.core.text import clean

_NODE_FILE = expression(r"Cannot find module '(\.{1,2}/[^']+|/[^']+)'(?: imported from (\S+))?")


def module_file(failure: Failure) -> Diagnosis | None:
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
    return os.path.normpath(path)


def _required_by(lines: Sequence[str]) -> str | None:
    return next((found[1] for line in lines if (found := re.match(r"\s*- (/\S+)$", line))), None)


def _of_module(failure: Failure, path: Path, named: str, line: str, importer: str | None) -> Diagnosis | None:
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


def broken_package(failure: Failure) -> Diagnosis | None:
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


_BY_NAME = expression(r"Cannot find (?:module|package) '((?:@[\w.-]*/)?[\w.~#@-][^']*)'")


def linked_package(failure: Failure) -> Diagnosis | None:
    """A package that package.json takes from a folder (npm, "Local Paths") which is not there."""
    for line in failure.lines:
        found = _BY_NAME.search(line)
        for name, place in _from_folders(failure.folder) if found else ():
            if found and (found[1] + "/").startswith(f"{name}/") and not (failure.folder / place).exists():
                return Diagnosis(
                    name="linked-package-missing",
                    cause=f"package.json takes {clean(name, 80)} from {clean(place, 120)}, and that is not there",
                    line=clean(line.strip(), 240),
                    remedies=(Remedy("bring that folder: it is often another checkout beside this one"),),
                )
    return None


def _from_folders(folder: Path) -> list[tuple[str, str]]:
    manifest = manifest_of(folder)
    tables = [table for key in ("dependencies", "devDependencies") if isinstance(table := manifest.get(key), dict)]
    return [
        (name, found[1])
        for table in tables
        for name, value in table.items()
        if isinstance(value, str) and (found := re.match(r"(?:file|link|portal):(.+)", value))
    ]


def alias(failure: Failure) -> Diagnosis | None:
    """A name that tsconfig.json gives a folder (`paths`) is known to the compiler, and to Node.js not at all."""
    text = text_of(failure.folder / "tsconfig.json")
    table = re.search(r'"paths"\s*:\s*\{([^}]*)\}', text)
    starts = [each.rstrip("*") for each in re.findall(r'"([^"]+)"\s*:\s*\[', table[1])] if table else []
    for line in failure.lines if starts else ():
        found = _BY_NAME.search(line)
        if found and any(found[1] == each or (each.endswith("/") and found[1].startswith(each)) for each in starts):
            return Diagnosis(
                name="alias-unknown",
                cause=f"{clean(found[1], 80)} is a short name of tsconfig.json, which Node.js does not know when it runs",
                line=clean(line.strip(), 240),
                remedies=(Remedy("let the build write the real paths, or name the file by its path"),),
            )
    return None


_TYPESCRIPT = expression(r"^(?:file://)?(/\S+\.[cm]?tsx?):\d+$")


def typescript_alone(failure: Failure) -> Diagnosis | None:
    """A file of TypeScript that Node.js was given as it is, and could not read."""
    error = failure.line_with("SyntaxError:")
    for line in failure.lines if error else ():
        found = _TYPESCRIPT.match(line)
        if found and Path(found[1]).is_relative_to(failure.root) and "/node_modules/" not in found[1]:
            where = Path(found[1]).relative_to(failure.root).as_posix()
            return Diagnosis(
                name="typescript-alone",
                cause=f"{clean(where, 120)} is TypeScript, and this Node.js cannot run it as it is",
                line=clean(error or "", 240),
                remedies=(
                    Remedy("compile it first, or start it with a loader of TypeScript that the project declares"),
                ),
            )
    return None
