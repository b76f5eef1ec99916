"""PHP: packages that Composer installs, and the ways to serve: a framework's console, a script, the built-in server."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, PlanContext, PrepareStep, Rank, RunKind, RunPlan
from dokimon.core.reading.json_places import json_line
from dokimon.core.reading.manifest import ManifestFault, as_json, open_manifest

_ROOTS = ("public", "web", "htdocs", "www", "public_html", ".")
"""Document roots by custom; the first that holds an index is the one."""

_SCRIPTS = ("dev", "start", "serve")
_ROUTERS = ("router.php", "server.php")


def plan(context: PlanContext) -> Plan | None:
    """Return the plan for a PHP project, or None when the folder is none."""
    folder = context.folder
    has_manifest = (folder / "composer.json").is_file()
    root = next((root for root in _ROOTS if (folder / root / "index.php").is_file()), None)
    if not has_manifest and root is None:
        return None
    steps = (_install(context),) if has_manifest else ()
    ways = (_console(context), _script(context), _built_in(context, root) if root else None, *_programs(context))
    return Plan(prepare=tuple(step for step in steps if step), runs=tuple(way for way in ways if way))


def _install(context: PlanContext) -> PrepareStep | None:
    folder = context.folder
    package = _json(folder / "composer.json")
    wanted = (
        [name for name in package.get("require", {}) if "/" in name] if isinstance(package.get("require"), dict) else []
    )
    if not wanted and "autoload" not in package and not package.get("require-dev"):
        return None
    lock = folder / "composer.lock"
    return PrepareStep(
        title="install packages",
        command=("composer", "install", "--no-interaction", "--no-progress"),
        folder=folder,
        source=context.source(lock if lock.is_file() else folder / "composer.json"),
        needed=_why_install(folder),
        reason="vendor has what is declared",
        makes=(folder / "vendor/autoload.php",),
    )


def _why_install(folder: Path) -> str | None:
    if not (folder / "vendor/autoload.php").is_file():
        return "there is no vendor/autoload.php"
    there = _versions(_json(folder / "vendor/composer/installed.json").get("packages"))
    for name, version in _versions(_json(folder / "composer.lock").get("packages")).items():
        if there.get(name) != version:
            return f"composer.lock wants {name} {version}, vendor has {there.get(name, 'none of it')}"
    return None


def _versions(packages: Any) -> dict[str, str]:
    listed = packages if isinstance(packages, list) else []
    return {str(each.get("name")): str(each.get("version")) for each in listed if isinstance(each, dict)}


def _console(context: PlanContext) -> RunPlan | None:
    """Laravel's console serves the project itself."""
    artisan = context.folder / "artisan"
    if not artisan.is_file():
        return None
    command = ("php", "artisan", "serve", "--host=127.0.0.1", "--port={port}")
    return RunPlan(
        name="artisan",
        command=command,
        folder=context.folder,
        source=context.source(artisan),
        kind="server",
        port=8000,
        may_move=True,
        rank=Rank.FRAMEWORK,
    )


def _script(context: PlanContext) -> RunPlan | None:
    try:
        manifest = open_manifest(context.folder / "composer.json", context.root)
        scripts = as_json(manifest).get("scripts")
    except ManifestFault:
        return None
    if not isinstance(scripts, dict):
        return None
    name = next((name for name in _SCRIPTS if scripts.get(name)), None)
    if name is None:
        return None
    source = manifest.source(json_line(manifest.text, ("scripts", name)))
    text = json.dumps(scripts[name])
    port = re.search(r"-S\s+[\w.\[\]:]*:(\d{2,5})", text)
    kind: RunKind = "server" if port else None
    # Composer ends its scripts after five minutes by default.
    environment = {"COMPOSER_PROCESS_TIMEOUT": "0"}
    number = int(port[1]) if port else None
    command = ("composer", "run-script", name)
    return RunPlan(
        name=name,
        command=command,
        folder=context.folder,
        source=source,
        kind=kind,
        port=number,
        environment=environment,
        rank=Rank.SCRIPT,
    )


def _built_in(context: PlanContext, root: str) -> RunPlan:
    """PHP's own server (php.net, "Built-in web server"): a document root and, where there is one, a router script."""
    folder = context.folder
    router = next(
        (name for name in _ROUTERS if (folder / name).is_file() and "return false" in text_of(folder / name)), None
    )
    command = ("php", "-S", "127.0.0.1:{port}", "-t", root, *((router,) if router else ()))
    source = context.source(folder / root / "index.php")
    return RunPlan(
        name="php", command=command, folder=folder, source=source, kind="server", port=8000, may_move=True,
        rank=Rank.PROCESSES,
    )  # fmt: skip


def _programs(context: PlanContext) -> list[RunPlan]:
    """The programs that composer.json gives to others (getcomposer.org, "bin"), and Symfony's and others' console."""
    named = _json(context.folder / "composer.json").get("bin")
    names = [each for each in (named if isinstance(named, list) else [named]) if isinstance(each, str)]
    found = []
    for name in [*names, "bin/console", "bin/cake", "spark", "yii"]:
        path = context.folder / name
        if path.is_file() and path.resolve().is_relative_to(context.root):
            source = context.source(path)
            found.append(
                RunPlan(name=path.stem, command=("php", name), folder=context.folder, source=source, rank=Rank.COMMAND)
            )
    return found


def _json(path: Path) -> dict[str, Any]:
    try:
        read = json.loads(text_of(path, 64 * 1024 * 1024) or "{}")
    except (ValueError, RecursionError):
        return {}
    return read if isinstance(read, dict) else {}
