"""Node.js: what `package.json`, `.nvmrc`, `.node-version` and the lock files declare."""

from __future__ import annotations

import re
from typing import Any

from dokimon.core.declarations.requirement import (
    Requirement,
    Strength,
    any_version,
    platform_need,
    requirement,
    unreadable,
)
from dokimon.core.declarations.shapes import misfits
from dokimon.core.files import bytes_of_file
from dokimon.core.reading.json_places import json_line
from dokimon.core.reading.manifest import Manifest, as_json
from dokimon.core.reading.text import version_line
from dokimon.core.source import Source

PACKAGE_MANAGERS = ("npm", "yarn", "pnpm", "bun")

_RUNTIMES = frozenset({"node", "bun", "deno"})
_PACKAGE_MANAGER = re.compile(r"(npm|yarn|pnpm|bun)@(\d+\.\d+\.\d+[^+\s]*)(\+\S+)?")

LOCK_FILES = {
    "package-lock.json": "npm",
    "npm-shrinkwrap.json": "npm",
    "yarn.lock": "yarn",
    "pnpm-lock.yaml": "pnpm",
    "bun.lock": "bun",
    "bun.lockb": "bun",
}
"""The lock file that each package manager writes."""

_SYSTEMS = {"linux": "linux", "darwin": "macos", "win32": "windows"}
"""Node's names for the systems that Dokimon knows (`process.platform`)."""

_LARGEST_LOCK = 64 * 1024 * 1024


_SHAPE = {
    "engines": "table or list",
    "devEngines": "table",
    "devEngines.runtime": "table or list",
    "devEngines.packageManager": "table or list",
    "devEngines.*.version": "text",
    "devEngines.*.*.version": "text",
    "os": "text or list",
    "cpu": "text or list",
}


def read_package(manifest: Manifest) -> list[Requirement]:
    """Read `engines`, `devEngines`, `packageManager`, `os` and `cpu`, and the engines of locked direct dependencies.

    A package.json needs Node.js even where it names no version.
    """
    package = as_json(manifest)
    wrong = misfits(manifest, package, _SHAPE, "node")
    named = _package_manager(manifest, package)
    lock = next((name for name in LOCK_FILES if name in manifest.beside), None) if len(manifest.beside) > 1 else None
    locked = LOCK_FILES[lock] if lock else "npm"
    manager = named[0].tool if named else locked
    found = [*wrong, *_engines(manifest, package, manager), *named]
    if "devEngines" in package:
        found += _dev_engines(manifest, package)
    tools = {each.tool for each in found}
    if not tools & _RUNTIMES:
        found.insert(0, any_version("node", manifest.source(1), "a package.json is run by Node.js"))
    if not lock and not tools.intersection(PACKAGE_MANAGERS):
        found.append(any_version("npm", manifest.source(1), "nothing names another package manager"))
    if "os" in package or "cpu" in package:
        found += _platforms(manifest, package)
    return [*found, *_engines_of_dependencies(manifest, package)]


def _engines(manifest: Manifest, package: dict[str, Any], manager: str) -> list[Requirement]:
    """Read `engines`. Only Node.js and the project's own package manager look at it; for others it is advice.

    A value that is not a range ("please-use-npm" for another package manager) then decides nothing either.
    """
    engines = package.get("engines")
    if engines is None:
        return []
    if isinstance(engines, list):  # the form of npm's first years: "node >=0.10"
        pairs = {str(e).split(" ", 1)[0]: str(e).partition(" ")[2] or "*" for e in engines}
        line = json_line(manifest.text, ("engines",))
        return [requirement(name, text, "npm", manifest.source(line)) for name, text in pairs.items()]
    if not isinstance(engines, dict):
        return []
    found = []
    for name, text in engines.items():
        source = manifest.json_source("engines", name)
        if isinstance(text, str):
            strength: Strength = "required" if name in ("node", manager) else "advised"
            found.append(requirement(name, text, "npm", source, strength=strength))
        else:
            found.append(unreadable(name, source, f'"engines.{name}" must be text such as ">=18"'))
    return found


def _package_manager(manifest: Manifest, package: dict[str, Any]) -> list[Requirement]:
    """`packageManager` names one exact version, with a hash behind a `+` (the form that corepack reads)."""
    value = package.get("packageManager")
    if value is None:
        return []
    source = manifest.json_source("packageManager")
    named = _PACKAGE_MANAGER.fullmatch(value) if isinstance(value, str) else None
    if not named:
        tool = next((name for name in PACKAGE_MANAGERS if str(value).startswith(name)), "npm")
        return [unreadable(tool, source, '"packageManager" must have the form "pnpm@9.12.0"')]
    return [requirement(named[1], named[2], "npm", source)]


def _dev_engines(manifest: Manifest, package: dict[str, Any]) -> list[Requirement]:
    """Read `devEngines` (docs.npmjs.com, package.json): `runtime` and `packageManager`, each one or several.

    `onFail` says how hard it is meant: `warn` and `ignore` make it advice.
    """
    engines = package.get("devEngines")
    found = []
    for table in ("runtime", "packageManager"):
        given = engines.get(table) if isinstance(engines, dict) else None
        if not given:
            continue
        several = isinstance(given, list)
        for index, entry in enumerate(given if isinstance(given, list) else [given]):
            keys = ("devEngines", table, index) if several else ("devEngines", table)
            source = manifest.json_source(*keys, "name")
            if not isinstance(entry, dict) or not isinstance(entry.get("name"), str):
                found.append(unreadable("node", source, f'"devEngines.{table}" needs a name'))
                continue
            strength: Strength = "advised" if entry.get("onFail") in ("warn", "ignore") else "required"
            wanted = entry.get("version", "*")
            if isinstance(wanted, str):
                found.append(requirement(entry["name"], wanted, "npm", source, strength=strength))
    return found


def _platforms(manifest: Manifest, package: dict[str, Any]) -> list[Requirement]:
    """Read `os` and `cpu`: lists of names, those with a `!` are left out."""
    found = []
    for key, known in (("os", _SYSTEMS), ("cpu", None)):
        given = package.get(key)
        texts = [name for name in (given if isinstance(given, list) else [given]) if isinstance(name, str)]
        if not texts:
            continue
        source = manifest.json_source(key)
        if known:
            systems = [("!" if n.startswith("!") else "") + known.get(n.lstrip("!"), n.lstrip("!")) for n in texts]
            found.append(platform_need(systems, source, "the package names the systems it runs on"))
        else:
            why = "the package names the processors it runs on"
            found.append(platform_need(texts, source, why, "architecture"))
    return found


def _engines_of_dependencies(manifest: Manifest, package: dict[str, Any]) -> list[Requirement]:
    """What the direct dependencies, as locked, want of Node.js: advice, since npm only warns about it."""
    if "package-lock.json" not in manifest.beside:
        return []
    names = [n for t in ("dependencies", "devDependencies") if isinstance(package.get(t), dict) for n in package[t]]
    lock = manifest.path.parent / "package-lock.json"
    import json

    try:
        packages = json.loads(bytes_of_file(lock, _LARGEST_LOCK, follow=False)).get("packages", {})
    except (OSError, ValueError, RecursionError, AttributeError):
        return []
    shown = manifest.name.removesuffix("package.json") + "package-lock.json"
    wanted: dict[str, list[str]] = {}
    for name in names:
        entry = packages.get(f"node_modules/{name}") if isinstance(packages, dict) else None
        engines = entry.get("engines") if isinstance(entry, dict) else None
        text = engines.get("node") if isinstance(engines, dict) else None
        if isinstance(text, str):
            wanted.setdefault(text, []).append(name)
    found = []
    for text, users in wanted.items():
        more = f" and {len(users) - 1} more" if len(users) > 1 else ""
        source = Source(shown, 1, f"{users[0]}{more}: {text}"[:160])
        need = requirement("node", text, "npm", source, strength="advised", why=f"{users[0]}{more} names it")
        if not need.fault:
            found.append(need)
    return found


def read_version_file(manifest: Manifest) -> list[Requirement]:
    """Read `.nvmrc` or `.node-version`: a version, the beginning of one, or an alias."""
    wanted, line = version_line(manifest)
    return [requirement("node", wanted, "node-version-file", manifest.source(line))]


_LOCK_VERSIONS: dict[str, list[tuple[str, str, str]]] = {
    "package-lock.json": [(r'"lockfileVersion":\s*[23]', ">=7", "lockfileVersion 2 or 3")],
    "npm-shrinkwrap.json": [(r'"lockfileVersion":\s*[23]', ">=7", "lockfileVersion 2 or 3")],
    "yarn.lock": [(r"^# yarn lockfile v1", ">=1, <2", "lockfile v1"), (r"^__metadata:", ">=2", "a __metadata block")],
    "pnpm-lock.yaml": [
        (r"^lockfileVersion:\s*'?5", ">=3, <8", "lockfileVersion 5"),
        (r"^lockfileVersion:\s*'?6", ">=8", "lockfileVersion 6"),
        (r"^lockfileVersion:\s*'?9", ">=9", "lockfileVersion 9"),
    ],
}
"""Which versions of a package manager can read a lock file, by its first lines."""

_HEAD = 4096


def read_lock(manifest: Manifest) -> list[Requirement]:
    """A lock file needs the package manager that wrote it, in a version that can read it."""
    tool = LOCK_FILES[manifest.path.name]
    try:
        head = bytes_of_file(manifest.location, _HEAD, follow=False).decode("utf-8", "replace")
    except OSError:
        head = ""
    for pattern, wanted, form in _LOCK_VERSIONS.get(manifest.path.name, []):
        if found := re.search(pattern, head, re.MULTILINE):
            source = Source(manifest.name, head.count("\n", 0, found.start()) + 1, found[0].strip())
            return [requirement(tool, wanted, "plain", source, why=f"it reads {form}")]
    return [any_version(tool, Source(manifest.name, 1, ""), f"{tool} wrote {manifest.path.name}")]
