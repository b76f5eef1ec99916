"""Node.js: what `package.json`, `.nvmrc`, `.node-version` and the lock files declare."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

from dokimon.core.declarations.manifest import Manifest, ManifestFault, as_json, json_line
from dokimon.core.declarations.requirement import Requirement, Source, any_version, requirement, unreadable

PACKAGE_MANAGERS = ("npm", "yarn", "pnpm", "bun")

LOCK_FILES = {
    "package-lock.json": "npm",
    "npm-shrinkwrap.json": "npm",
    "yarn.lock": "yarn",
    "pnpm-lock.yaml": "pnpm",
    "bun.lock": "bun",
    "bun.lockb": "bun",
}
"""The lock file that each package manager writes."""


def read_package(manifest: Manifest) -> list[Requirement]:
    """Read `engines` and `packageManager`. A package.json needs Node.js even where it names no version."""
    package = as_json(manifest)
    named = _package_manager(manifest, package)
    lock = next((tool for name, tool in LOCK_FILES.items() if (manifest.path.parent / name).is_file()), None)
    manager = named[0].tool if named else lock or "npm"
    found = [*_engines(manifest, package, manager), *named]
    if not any(each.tool in ("node", "bun", "deno") for each in found):
        found.insert(0, any_version("node", manifest.source(1), "a package.json is run by Node.js"))
    if not lock and not any(each.tool in PACKAGE_MANAGERS for each in found):
        found.append(any_version("npm", manifest.source(1), "nothing names another package manager"))
    return found


def _engines(manifest: Manifest, package: dict[str, Any], manager: str) -> list[Requirement]:
    """Read `engines`. Only Node.js and the project's own package manager look at it; for others it is advice.

    A wish that is no range ("please-use-npm" for another package manager) then decides nothing either.
    """
    engines = package.get("engines")
    if engines is None:
        return []
    if isinstance(engines, list):  # the form of npm's first years: "node >=0.10"
        pairs = {str(e).split(" ", 1)[0]: str(e).partition(" ")[2] or "*" for e in engines}
        line = json_line(manifest.text, ("engines",))
        return [requirement(name, text, "npm", manifest.source(line)) for name, text in pairs.items()]
    if not isinstance(engines, dict):
        source = manifest.source(json_line(manifest.text, ("engines",)))
        return [unreadable("node", source, '"engines" must be an object such as {"node": ">=18"}')]
    found = []
    for name, text in engines.items():
        source = manifest.source(json_line(manifest.text, ("engines", name)))
        if isinstance(text, str):
            strength = "required" if name in ("node", manager) else "advised"
            found.append(requirement(name, text, "npm", source, strength=strength))
        else:
            found.append(unreadable(name, source, f'"engines.{name}" must be text such as ">=18"'))
    return found


def _package_manager(manifest: Manifest, package: dict[str, Any]) -> list[Requirement]:
    """`packageManager` names one exact version, with a hash behind a `+` (the form that corepack reads)."""
    value = package.get("packageManager")
    if value is None:
        return []
    source = manifest.source(json_line(manifest.text, ("packageManager",)))
    named = (
        re.fullmatch(r"(npm|yarn|pnpm|bun)@(\d+\.\d+\.\d+[^+\s]*)(\+\S+)?", value) if isinstance(value, str) else None
    )
    if not named:
        tool = next((name for name in PACKAGE_MANAGERS if str(value).startswith(name)), "npm")
        return [unreadable(tool, source, '"packageManager" must have the form "pnpm@9.12.0"')]
    return [requirement(named[1], named[2], "npm", source)]


def read_version_file(manifest: Manifest) -> list[Requirement]:
    """Read `.nvmrc` or `.node-version`: the first line that is not empty and no comment."""
    for number, line in enumerate(manifest.text.splitlines(), start=1):
        wanted = line.partition("#")[0].strip()
        if wanted:
            return [requirement("node", wanted, "node-version-file", manifest.source(number))]
    raise ManifestFault(1, "names no version")


def read_lock(manifest: Manifest) -> list[Requirement]:
    """A lock file needs the package manager that wrote it; its contents are not looked at here."""
    tool = LOCK_FILES[manifest.path.name]
    return [any_version(tool, Source(manifest.name, 1, ""), f"{tool} wrote {manifest.path.name}")]


READERS: dict[str, Callable[[Manifest], list[Requirement]]] = {
    "package.json": read_package,
    ".nvmrc": read_version_file,
    ".node-version": read_version_file,
    **dict.fromkeys(LOCK_FILES, read_lock),
}

SPEAKS_OF = "node"
"""The tool whose need stays unknown when one of these files cannot be read."""

UNREAD = frozenset(LOCK_FILES)
"""Files whose presence is all that counts."""
