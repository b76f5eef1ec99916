"""Node.js: what `package.json`, `.nvmrc`, `.node-version` and the lock files declare."""

from __future__ import annotations

import os
import re
from collections.abc import Sequence
from functools import lru_cache
from pathlib import Path
from typing import Any, Literal

import msgspec

from dokimon.core.declarations.requirement import (
    Requirement,
    Strength,
    any_version,
    either,
    platform_need,
    requirement,
    unreadable,
)
from dokimon.core.declarations.shapes import misfits
from dokimon.core.declarations.workspaces import is_member
from dokimon.core.expressions import expression
from dokimon.core.files import bytes_of_file
from dokimon.core.reading.json_places import json_line
from dokimon.core.reading.manifest import Manifest, ManifestFault, as_json, open_manifest
from dokimon.core.reading.text import version_line
from dokimon.core.reading.yaml import as_yaml
from dokimon.core.source import Source

PACKAGE_MANAGERS = ("npm", "yarn", "pnpm", "bun")

_ENGINES = {"vscode": "code"}
"""Names in `engines` of tools that go by another here."""
_RUNTIMES = frozenset({"node", "bun", "deno"})
_PACKAGE_MANAGER = expression(r"(npm|yarn|pnpm|bun)@(\d+\.\d+\.\d+[^+\s]*)(\+\S+)?")

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
    """Read `engines`, `devEngines`, `packageManager`, `volta`, `os` and `cpu`, and the engines of locked dependencies.

    A package.json needs Node.js even where it names no version. A member of a workspace has the package manager of its
    root.
    """
    package = as_json(manifest)
    wrong = misfits(manifest, package, _SHAPE, "node")
    named = _package_manager(manifest, package)
    locks = _locks_beside(manifest)
    root = None if named or locks else _workspace_root(manifest)
    lerna = None if named or locks or root else _client_of_lerna(manifest)
    managers = [each.tool for each in named] or locks or (_managers_of(root) if root else [lerna or "npm"])
    found = [*wrong, *_engines(manifest, package, managers), *named]
    if "devEngines" in package:
        found += _dev_engines(manifest, package)
    found += _volta(manifest, package)
    tools = {each.tool for one in found for each in one.choices}
    if not tools & _RUNTIMES:
        found.insert(0, any_version("node", manifest.source(1), "a package.json is run by Node.js"))
    if not root and not tools.intersection(PACKAGE_MANAGERS):
        found += _manager_by_files(manifest, locks, lerna)
    if "os" in package or "cpu" in package:
        found += _platforms(manifest, package)
    covers = _members(manifest, package)
    if covers:
        found = [msgspec.structs.replace(each, covers=covers) for each in found]
    return [*found, *_engines_of_dependencies(manifest, package)]


def _manager_by_files(manifest: Manifest, locks: list[str], lerna: str | None) -> list[Requirement]:
    """Return the package manager of a project that names none: one lock file tells it by itself, of several one will do."""
    if len(locks) == 1:
        return []
    source = manifest.source(1)
    if locks:
        why = f"lock files of {' and '.join(locks)} lie side by side: remove one"
        return [either([any_version(tool, source) for tool in locks], source, why)]
    why = "lerna.json names it" if lerna else "nothing names another package manager"
    return [any_version(lerna or "npm", source, why)]


def _locks_beside(manifest: Manifest) -> list[str]:
    """Return the package managers whose lock files lie beside a package.json."""
    if len(manifest.beside) < 2:
        return []
    return list(dict.fromkeys(LOCK_FILES[name] for name in LOCK_FILES if name in manifest.beside))


def _members(manifest: Manifest, package: dict[str, Any]) -> tuple[str, ...]:
    """Return the patterns of the folders that a workspace takes in: `workspaces`, or the file of pnpm."""
    given = package.get("workspaces")
    given = given.get("packages") if isinstance(given, dict) else given
    patterns = [each for each in given if isinstance(each, str)] if isinstance(given, list) else []
    if "pnpm-workspace.yaml" in manifest.beside or (not manifest.beside and not patterns):
        try:
            listed = as_yaml(open_manifest(manifest.path.parent / "pnpm-workspace.yaml", manifest.root)).get("packages")
        except ManifestFault:
            listed = None
        patterns += [each.text for each in listed.each() if each.text] if listed else []
    return tuple(each for each in patterns if not each.startswith("!"))


def _workspace_root(manifest: Manifest) -> Manifest | None:
    """Return the package.json above that takes this one into its workspace, or None."""
    root = str(manifest.root)
    folder = own = manifest.location.rpartition("/")[0]  # as text: a checkout may have thousands of packages
    while len(folder) > len(root):
        folder = folder.rpartition("/")[0]
        above = _workspace_in(folder, manifest.root, _changed(folder))
        if above and any(is_member(own[len(folder) + 1 :], pattern) for pattern in above[1]):
            return above[0]
    return None


def _changed(folder: str) -> tuple[int, ...]:
    """Return when the files that make a workspace were changed: what was read of them before still holds then."""
    times = []
    for name in ("package.json", "pnpm-workspace.yaml"):
        try:
            times.append(os.stat(f"{folder}/{name}").st_mtime_ns)  # noqa: PTH116 (asked for every package)
        except OSError:
            times.append(0)
    return tuple(times)


@lru_cache(maxsize=256)
def _workspace_in(folder: str, root: Path, changed: tuple[int, ...]) -> tuple[Manifest, tuple[str, ...]] | None:
    """Return the package.json of a folder and the patterns of its members, or None where it has none."""
    if not changed[0]:
        return None
    try:
        above = open_manifest(f"{folder}/package.json", root, _names_in(Path(folder)))
        patterns = _members(above, as_json(above))
    except ManifestFault:
        return None
    return (above, patterns) if patterns else None


def _names_in(folder: Path) -> frozenset[str]:
    return frozenset(name for name in (*LOCK_FILES, "package.json", "pnpm-workspace.yaml") if (folder / name).exists())


def _managers_of(root: Manifest) -> list[str]:
    """Return the package managers of the root of a workspace."""
    named = _package_manager(root, as_json(root))
    return [each.tool for each in named if not each.fault] or _locks_beside(root)


def _client_of_lerna(manifest: Manifest) -> str | None:
    """Return the package manager that Lerna installs with (lerna.js.org, "npmClient"), where a lerna.json names one."""
    try:
        named = as_json(open_manifest(manifest.path.parent / "lerna.json", manifest.root)).get("npmClient")
    except ManifestFault:
        return None
    return str(named) if named in PACKAGE_MANAGERS else None


def _volta(manifest: Manifest, package: dict[str, Any]) -> list[Requirement]:
    """Read `volta`, which pins Node.js and the package managers (docs.volta.sh, "Managing your project")."""
    pinned = package.get("volta")
    if not isinstance(pinned, dict):
        return []
    found = []
    for tool in ("node", *PACKAGE_MANAGERS):
        version = pinned.get(tool)
        if isinstance(version, str):
            found.append(requirement(tool, version, "npm", manifest.json_source("volta", tool), why="Volta pins it"))
    return found


def _engines(manifest: Manifest, package: dict[str, Any], managers: list[str]) -> list[Requirement]:
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
            strength: Strength = "required" if name in ("node", *managers) else "advised"
            found.append(requirement(str(_ENGINES.get(name, name)), text, "npm", source, strength=strength))
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
    if not isinstance(engines, dict):
        return []
    found: list[Requirement] = []
    for table in ("runtime", "packageManager"):
        given = engines.get(table)
        if not given:
            continue
        several = isinstance(given, list)
        needs: list[Requirement] = []
        for index, entry in enumerate(given if isinstance(given, list) else [given]):
            keys = ("devEngines", table, index) if several else ("devEngines", table)
            source = manifest.json_source(*keys, "name")
            if not isinstance(entry, dict) or not isinstance(entry.get("name"), str):
                found.append(unreadable("node", source, f'"devEngines.{table}" needs a name'))
                continue
            strength: Strength = "advised" if entry.get("onFail") in ("warn", "ignore") else "required"
            wanted = entry.get("version", "*")
            if isinstance(wanted, str):
                needs.append(requirement(entry["name"], wanted, "npm", source, strength=strength))
        if len({each.tool for each in needs}) > 1:  # one of several is enough
            found.append(either(needs, manifest.json_source("devEngines", table)))
        else:
            found += needs
    for table, known in (("os", _SYSTEMS), ("cpu", None)):
        given = engines.get(table)
        entries = [each for each in (given if isinstance(given, list) else [given]) if isinstance(each, dict)]
        texts = [
            each["name"] for each in entries if isinstance(each.get("name"), str) and each.get("onFail") != "ignore"
        ]
        if texts:
            source = manifest.json_source("devEngines", table)
            names = [known.get(text, text) for text in texts] if known else texts
            axis: Literal["system", "architecture"] = "system" if known else "architecture"
            found.append(platform_need(names, source, "development needs it", axis))
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
    source = manifest.source(line)
    if wanted == "system":
        return [any_version("node", source, "the version file says system")]
    return [requirement("node", wanted, "node-version-file", source)]


_LOCK_VERSIONS: dict[str, Sequence[tuple[str, str, str]]] = {
    **dict.fromkeys(
        ("package-lock.json", "npm-shrinkwrap.json"),
        (
            (r'"lockfileVersion":\s*3', ">=7", "lockfileVersion 3"),
            (r'"lockfileVersion":\s*2', ">=6", "lockfileVersion 2"),
        ),
    ),
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
    """A lock file needs the package manager that wrote it, in a version that can read it.

    Where lock files of several lie side by side, the package.json tells that one of them will do.
    """
    tool = LOCK_FILES[manifest.path.name]
    if len(_locks_beside(manifest)) > 1 and "package.json" in manifest.beside:
        return []
    try:
        head = bytes_of_file(manifest.location, _HEAD, follow=False).decode("utf-8", "replace")
    except OSError:
        head = ""
    if tool == "yarn" and (own := _own_yarn(manifest)):
        return [any_version("yarn", Source(manifest.name, 1, ""), f"it starts {own}, which the project brings")]
    for pattern, wanted, form in _LOCK_VERSIONS.get(manifest.path.name, []):
        if found := re.search(pattern, head, re.MULTILINE):
            source = Source(manifest.name, head.count("\n", 0, found.start()) + 1, found[0].strip())
            return [requirement(tool, wanted, "plain", source, why=f"it reads {form}")]
    return [any_version(tool, Source(manifest.name, 1, ""), f"{tool} wrote {manifest.path.name}")]


def _own_yarn(manifest: Manifest) -> str | None:
    """Return the Yarn that the checkout brings (`yarnPath` of .yarnrc.yml): any Yarn on the machine hands over to it."""
    try:
        named = as_yaml(open_manifest(manifest.path.parent / ".yarnrc.yml", manifest.root)).get("yarnPath")
    except ManifestFault:
        return None
    return named.text if named and named.text and (manifest.path.parent / named.text).is_file() else None


def read_deno(manifest: Manifest) -> list[Requirement]:
    """A deno.json is Deno's; it names no version of it."""
    return [any_version("deno", manifest.source(1), f"a {manifest.path.name} is Deno's")]
