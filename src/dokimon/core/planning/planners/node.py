"""Node.js: how packages are installed, and which script starts the project."""

from __future__ import annotations

import json
import re
import shutil
from collections.abc import Iterable
from pathlib import Path
from typing import Any, Literal

from dokimon.core.declarations.readers.node import LOCK_FILES
from dokimon.core.expressions import expression
from dokimon.core.files import bytes_of_file, text_of
from dokimon.core.planning.dev_servers import dev_server, port_in
from dokimon.core.planning.plan import Plan, PlanContext, PrepareStep, Rank, RunPlan
from dokimon.core.planning.planners.freshness import older_than
from dokimon.core.planning.workspaces import manifest_of, package_manager, root_of_workspace, unbuilt_packages
from dokimon.core.reading.json_places import json_line
from dokimon.core.reading.manifest import Manifest, ManifestFault, as_json, open_manifest
from dokimon.core.versions import admits
from dokimon.core.versions.faults import VersionFault

_SCRIPTS = ("dev", "start", "serve", "develop", "start:dev", "server")
"""The scripts that start a project, by custom, in the order of preference."""

_OTHER_SCRIPTS = expression(
    r"(?:dev|start|serve)[:-][\w:-]+|[\w:-]+[:-](?:dev|start|serve)|preview|demo|examples?|playground|storybook|web|api|watch"
)
"""Scripts that start a part of a project or something beside it: they are proposed where none of the usual ones is there."""

_ONLY_BUILDS = expression(
    r"^(?!.*(?:concurrently|nodemon|\bserve|--open|npm-run-all|\brun-p\b|\s(?:dev|start|preview)\b))(?:.*[\s/])?"
    r"(?:tsc|tsup|tsdown|rollup|unbuild|microbundle|babel|swc|esbuild|webpack|pkgroll|rslib|father|ncc|bunchee|tshy|zshy|obuild"
    r"|parcel watch|vite build|[\w:-]*build[\w:.-]*)(?:\s[^&|]*)?$"
)
"""Scripts that only build anew when a file changes: of a library or a command, not of something that is started by it."""

_ENVIRONMENT = {"BROWSER": "none", "NO_UPDATE_NOTIFIER": "1", "npm_config_update_notifier": "false"}
"""Development servers shall not open a browser window, and npm shall not advertise itself."""

_LARGEST_LOCK = 64 * 1024 * 1024


def plan(context: PlanContext) -> Plan | None:
    """Return the plan for the folder's `package.json`, or None when there is none to go by."""
    path = context.folder / "package.json"
    if not path.is_file():
        return _lone_script(context)
    try:
        manifest = open_manifest(path, context.root)
        package = as_json(manifest)
    except ManifestFault:
        return None
    home = root_of_workspace(context.folder, context.root) or context.folder
    manager = package_manager(home, package if home == context.folder else manifest_of(home))
    install = _install_step(context, manifest, package, manager, home)
    ways = [
        *_script_runs(context, manifest, package, manager),
        *_programs(context, manifest, package),
        *_files(context, package),
    ]
    build = _build_step(context, manifest, package, manager, ways)
    steps = (install, *_package_steps(context, manager), build)
    return Plan(prepare=tuple(step for step in steps if step), runs=tuple(ways))


def _package_steps(context: PlanContext, manager: str) -> list[PrepareStep]:
    """The packages of the workspace that others need and that are not built yet; a project's own in it need them, too."""
    above = [folder for folder in (context.folder, *context.folder.parents) if folder.is_relative_to(context.root)]
    unbuilt = dict.fromkeys(path for folder in above for path in unbuilt_packages(folder) if path != context.folder)
    steps = []
    for path in unbuilt:
        try:
            manifest = open_manifest(path / "package.json", context.root)
        except ManifestFault:
            continue
        steps.append(
            PrepareStep(
                title=f"build {path.name}",
                command=(manager, "run", "build"),
                folder=path,
                source=manifest.source(json_line(manifest.text, ("scripts", "build"))),
                needed="others of the workspace need it, and what its package.json names is not there",
                environment=_ENVIRONMENT,
            )
        )
    return steps


_ALL_PARTS = expression(
    r"\bconcurrently\b|\bnpm-run-all\b|\brun-p\b|\bturbo\b|\bnx run-many\b|\blerna run\b|--parallel\b|\bforeman\b|\bhoncho\b"
)
"""Scripts that start several parts of a project together."""


def _script_runs(context: PlanContext, manifest: Manifest, package: dict[str, Any], manager: str) -> list[RunPlan]:
    scripts = package.get("scripts")
    scripts = scripts if isinstance(scripts, dict) else {}
    found = []
    usual = [name for name in _SCRIPTS if name in scripts]
    usual.sort(key=lambda name: _lacks_its_tool(str(scripts[name]), context, package))
    other = None if usual or _is_for_others(package) else _only_server(scripts)
    for name in usual or [name for name in scripts if _OTHER_SCRIPTS.fullmatch(name)][:_MOST_PROPOSED]:
        text = scripts.get(name)
        if not isinstance(text, str) or not text.strip() or re.fullmatch(r"\s*echo\b.*(?:exit 1|error).*", text):
            continue
        source = manifest.source(json_line(manifest.text, ("scripts", name)))
        kind, port = _known_server(text)
        rank = Rank.STARTS_ALL if _ALL_PARTS.search(text) else Rank.SCRIPT
        if (not usual and name != other) or (kind is None and _is_for_others(package) and _ONLY_BUILDS.search(text)):
            rank = Rank.PROPOSAL
        found.append(
            RunPlan(
                name=name,
                command=(manager, "run", name),
                folder=context.folder,
                source=source,
                kind=kind,
                port=port,
                environment=_ENVIRONMENT,
                rank=rank,
            )
        )
    return found


def _only_server(scripts: dict[str, Any]) -> str | None:
    """Return the one script of a part (`docs:dev`) that starts a development server that is known; None of several."""
    found = [name for name, text in scripts.items() if _OF_A_PART.fullmatch(name) and _known_server(str(text))[0]]
    return found[0] if len(found) == 1 else None


_OF_A_PART = expression(r"[\w:-]+[:-]dev|dev[:-][\w:-]+")


def _lacks_its_tool(script: str, context: PlanContext, package: dict[str, Any]) -> bool:
    """Whether a script begins with a command that is declared nowhere, and is not here either."""
    words = [word for word in script.split() if not re.fullmatch(r"\w+=\S*|cross-env|dotenv|npx|--", word)]
    tool = words[0] if words else ""
    if not re.fullmatch(r"[a-z][\w-]*", tool) or tool in ("node", "npm", "pnpm", "yarn", "bun", "deno", *_OF_THE_SHELL):
        return False
    tables = [package.get(name) for name in ("dependencies", "devDependencies", "optionalDependencies")]
    declared = " ".join(name for table in tables if isinstance(table, dict) for name in table)
    is_here = (context.folder / "node_modules/.bin" / tool).exists() or shutil.which(
        tool, path=context.environment.get("PATH")
    )
    return tool not in declared and not is_here


_OF_THE_SHELL = (
    "cd",
    "echo",
    "export",
    "set",
    "sh",
    "bash",
    "exec",
    "env",
    "test",
    "rm",
    "mkdir",
    "cp",
    "wait",
    "sleep",
)
_MOST_PROPOSED = 6


def _is_for_others(package: dict[str, Any]) -> bool:
    """Whether a package is made to be imported or installed by others (docs.npmjs.com, package.json)."""
    return any(key in package for key in ("bin", "exports", "main", "module", "types"))


def _programs(context: PlanContext, manifest: Manifest, package: dict[str, Any]) -> list[RunPlan]:
    """The commands that the package installs (docs.npmjs.com, package.json, "bin"); the one named as the package first."""
    given = package.get("bin")
    own = str(package.get("name", "")).rpartition("/")[2]
    given = {own or "cli": given} if isinstance(given, str) else given
    table: dict[str, Any] = given if isinstance(given, dict) else {}
    source = manifest.source(json_line(manifest.text, ("bin",)))
    found = []
    for name, file in sorted(table.items(), key=lambda item: item[0] != own):
        if isinstance(file, str) and _inside(context, file):
            command = ("node", file.removeprefix("./"))
            found.append(
                RunPlan(
                    name=name,
                    command=command,
                    folder=context.folder,
                    source=source,
                    environment=_ENVIRONMENT,
                    rank=Rank.COMMAND,
                )
            )
    return found


def _inside(context: PlanContext, file: str) -> bool:
    return (context.folder / file).resolve().is_relative_to(context.root.resolve())


_LISTENS = expression(r"\.listen\s*\(|createServer\s*\(|\bserve\s*\(")
_STARTS_ITSELF = expression(
    r"^(?:await\s+)?[\w.()]*\.listen\s*\(|^serve\s*\(|require\.main\s*===\s*module|import\.meta\.main", re.MULTILINE
)
_EXPORTS = expression(
    r"^[ \t]*(?:module\.)?exports\b|^[ \t]*export\s|^[ \t]*Object\.defineProperty\(exports", re.MULTILINE
)


def _files(context: PlanContext, package: dict[str, Any]) -> list[RunPlan]:
    """`server.js`, which npm itself falls back to, and the package's main file where it starts something.

    A main file that exports things and starts nothing by itself is a library's, though its functions may listen.
    """
    found: dict[str, RunPlan] = {}
    for name in ("server.js", package.get("main"), "index.js", "app.js"):
        if not isinstance(name, str) or not name.endswith((".js", ".mjs", ".cjs")) or not _inside(context, name):
            continue
        path = context.folder / name
        if not path.is_file():
            continue
        text = text_of(path)
        starts = _STARTS_ITSELF.search(text) or (_LISTENS.search(text) and not _EXPORTS.search(text))
        if name != "server.js" and not starts and _EXPORTS.search(text):
            continue
        starts = starts or name == "server.js"
        found.setdefault(
            name.removeprefix("./"),
            RunPlan(
                name=path.stem,
                command=("node", name),
                folder=context.folder,
                source=context.source(path),
                environment=_ENVIRONMENT,
                rank=Rank.FILE if starts else Rank.PROPOSAL,
            ),
        )
    return list(found.values())


_LONE = ("server.js", "app.js", "index.js", "main.js", "server.mjs", "app.mjs", "index.mjs", "main.mjs")
_OF_NODE = expression(
    r"\brequire\s*\(|\bprocess\.|\bcreateServer\s*\(|^\s*import\b[^\n]*['\"](?:node:[\w/]+|https?|fs|path|os)['\"]|^console\.log",
    re.MULTILINE,
)
_OF_A_PAGE = expression(r"\b(?:document|window)\s*[.\[]|\bchrome\.\w+|\bbrowser\.\w+")


def _lone_script(context: PlanContext) -> Plan | None:
    """A script of a usual name without a `package.json`, where it is one for Node.js and not of a page."""
    if (context.folder / "index.html").is_file():
        return None
    path = next((context.folder / name for name in _LONE if (context.folder / name).is_file()), None)
    text = text_of(path) if path else ""
    if path is None or not _OF_NODE.search(text) or _OF_A_PAGE.search(text):
        return None
    run = RunPlan(
        name=path.stem,
        command=("node", path.name),
        folder=context.folder,
        source=context.source(path),
        environment=_ENVIRONMENT,
    )
    return Plan(runs=(run,))


_BUILT = r"(?:dist|build|lib|out|\.output)/[\w./-]+?\.[cm]?js"


def _build_step(
    context: PlanContext, manifest: Manifest, package: dict[str, Any], manager: str, ways: list[RunPlan]
) -> PrepareStep | None:
    """Build where what is started is built first, and is missing or older than its sources."""
    scripts = package.get("scripts")
    build = scripts.get("build") if isinstance(scripts, dict) else None
    if not isinstance(build, str) or not ways:
        return None
    first = min(ways, key=lambda way: way.rank)
    text = " ".join(map(str, first.command))
    if first.command[1:2] == ("run",) and isinstance(scripts, dict):
        text = str(scripts.get(first.name, ""))
        if "build" in text:
            return None
    named = re.search(_BUILT, text)
    if named is None:
        return None
    target = context.folder / named[0]
    sources = [
        path
        for path in (context.folder / "src", context.folder / "lib")
        if path.is_dir() and path not in target.parents
    ]
    needed = older_than(target, sources)
    return PrepareStep(
        title="build",
        command=(manager, "run", "build"),
        folder=context.folder,
        source=manifest.source(json_line(manifest.text, ("scripts", "build"))),
        needed=needed,
        reason=f"{named[0]} is newer than its sources",
        environment=_ENVIRONMENT,
    )


def _known_server(script: str) -> tuple[Literal["server"] | None, int | None]:
    """Return whether the script starts a development server that is known, and the port it usually takes."""
    server, named = dev_server(script), port_in(script)
    return ("server", named or server.port) if server else (None, named)


def _install_step(
    context: PlanContext, manifest: Manifest, package: dict[str, Any], manager: str, folder: Path
) -> PrepareStep | None:
    """Return the step that installs what is declared, in `folder`: the project's, or the root of its workspace."""
    wanted = {
        name: version
        for table in ("dependencies", "devDependencies")
        if isinstance(package.get(table), dict)
        for name, version in package[table].items()
    }
    if not wanted and "workspaces" not in package:
        return None
    lock = next(
        (folder / name for name, tool in LOCK_FILES.items() if tool == manager and (folder / name).is_file()),
        None,
    )
    needed = _why_install(folder, manager, lock, wanted, context.folder)
    return PrepareStep(
        title="install packages",
        command=_install_command(folder, manager, lock),
        folder=folder,
        source=context.source(lock) if lock else manifest.source(json_line(manifest.text, ("dependencies",))),
        needed=needed,
        reason="node_modules is there and has what is declared",
        environment=_ENVIRONMENT,
    )


def _install_command(folder: Path, manager: str, lock: Path | None) -> tuple[str, ...]:
    """The manager's own way to install just what its lock file says; npm's deletes an existing node_modules first."""
    quiet = ("--no-audit", "--no-fund")
    if manager == "npm":
        return ("npm", "install" if lock is None or (folder / "node_modules").is_dir() else "ci", *quiet)
    if lock is None:
        return (manager, "install")
    frozen = "--immutable" if manager == "yarn" and (folder / ".yarnrc.yml").is_file() else "--frozen-lockfile"
    return (manager, "install", frozen)


def _why_install(folder: Path, manager: str, lock: Path | None, wanted: dict[str, object], member: Path) -> str | None:
    """Return why packages must be installed, or None when they are there as declared.

    What a `member` of the workspace at `folder` wants lies in its own node_modules, or in that of the root.
    """
    modules = folder / "node_modules"
    if manager == "yarn" and (folder / ".pnp.cjs").is_file():
        return None
    if not modules.is_dir():
        return "there is no node_modules"
    if manager == "npm" and lock:
        return _against_lock(lock, modules, wanted)
    for name, version in wanted.items():
        own = member / "node_modules" / name / "package.json"
        installed_version = _read_json(own if own.is_file() else modules / name / "package.json").get("version")
        if str(version).startswith("workspace:") and (own.parent.exists() or (modules / name).exists()):
            continue
        if not isinstance(installed_version, str):
            return f"node_modules has no {name}"
        if not _fits(version, installed_version):
            return f"node_modules has {name} {installed_version}, and {version} is declared"
    return None


def _against_lock(lock: Path, modules: Path, named: Iterable[str]) -> str | None:
    """npm keeps in node_modules a lock file of what it installed: compare it with the project's, package by package.

    Those that the project has `named` itself are looked at where they lie too: `npm install --package-lock-only` renews both
    lock files and installs nothing.
    """
    wanted = _read_json(lock).get("packages")
    there = _read_json(modules / ".package-lock.json").get("packages")
    if not isinstance(wanted, dict):
        return None  # a lock file of npm 6 or older has no such table; node_modules is there, and that must do
    if not isinstance(there, dict):
        return "node_modules was not made by npm, or not to its end"
    for place, entry in wanted.items():
        if not place or not isinstance(entry, dict) or entry.get("link") or entry.get("optional"):
            continue
        if entry.get("peer") and place not in there:
            continue
        installed = there.get(place)
        if not isinstance(installed, dict) or installed.get("version") != entry.get("version"):
            name = place.rpartition("node_modules/")[2]
            has = f"{installed.get('version')} of it" if isinstance(installed, dict) else "none of it"
            return f"{lock.name} wants {name} {entry.get('version')}, node_modules has {has}"
    for name in named:
        pinned = wanted.get(f"node_modules/{name}")
        lies_there = _read_json(modules / name / "package.json").get("version")
        if isinstance(pinned, dict) and lies_there and pinned.get("version") not in (None, lies_there):
            return f"{lock.name} wants {name} {pinned['version']}, node_modules has {lies_there} of it"
    return None


def _read_json(path: Path) -> dict[str, Any]:
    try:
        read = json.loads(bytes_of_file(path, _LARGEST_LOCK))
    except (OSError, ValueError, RecursionError):
        return {}
    return read if isinstance(read, dict) else {}


def _fits(wanted: object, version: str) -> bool:
    try:
        return admits("npm", str(wanted), version)
    except VersionFault:  # a git address, a tag, a path: that it is there must do
        return True
