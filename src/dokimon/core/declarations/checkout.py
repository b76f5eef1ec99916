"""The checkout: where its root is, which of its folders count for the current one."""

from __future__ import annotations

import os
from collections import deque
from pathlib import Path

import msgspec

from dokimon.core.declarations.walking import FILLED_BY_TOOLS

SETTINGS_FILE = "dokimon.toml"
MANIFESTS = (
    *("package.json", "pyproject.toml", "requirements.txt", "manage.py", "setup.py", "setup.cfg", "Pipfile"),
    *("composer.json", "pom.xml", "build.gradle", "build.gradle.kts", "global.json", "Cargo.toml", "go.mod", "Gemfile"),
    *("Package.swift", "mix.exs", "pubspec.yaml", "platformio.ini", "meson.build"),
)
"""Files that make a folder a project of its own."""

_PARTS = (
    *MANIFESTS,
    *(
        "CMakeLists.txt",
        "configure.ac",
        "Makefile",
        "deno.json",
        "deno.jsonc",
        "settings.gradle",
        "settings.gradle.kts",
    ),
    *("build.sbt", "rebar.config", "stack.yaml", "cabal.project", "cpanfile", "Makefile.PL", "shard.yml", "Procfile"),
    *("app.py", "main.py", "server.js", "main.go", "config.ru", "index.php", "artisan"),
)
"""Files that make a folder a part of a project that has no way to start of its own."""

_REPOSITORY = (".git", ".hg", ".svn")


class Checkout(msgspec.Struct, frozen=True, kw_only=True):
    """`root` is the top; `project` the folder, at or below it, whose manifests count for the current one.

    `lineage` are the folders from `root` down to `project`: a version file further up counts below too. Where nothing
    marks a project, or the current folder is the home folder, what is below is not part of it (`deep` is False).
    `untrusted` is the outermost repository around `root`, or `root` itself: nothing below it is run by looking. A home or a
    folder of the system is nobody's checkout: there it is a path below which nothing lies.
    """

    root: Path
    project: Path
    lineage: tuple[Path, ...]
    untrusted: Path
    deep: bool = True


def find_checkout(start: Path) -> Checkout:
    """Find the checkout that holds the folder `start` (absolute).

    The root is the nearest folder upward with a `dokimon.toml`, else with a repository, else with a manifest, else
    `start` itself. The home folder and those above it are a root only when `start` is that very folder; folders of the
    system also where they hold a repository.
    """
    upward = [start, *start.parents]
    home = Path.home()
    marks = (SETTINGS_FILE, *_REPOSITORY, *MANIFESTS)
    if home in upward[1:]:
        upward = upward[: upward.index(home)]
    upward = [start, *(each for each in upward[1:] if not _is_common(each) or _nearest([each], _REPOSITORY))]
    root = _nearest(upward, (SETTINGS_FILE,)) or _nearest(upward, _REPOSITORY) or _nearest(upward, MANIFESTS) or start
    below = upward[: upward.index(root) + 1]
    project = _nearest(below, (SETTINGS_FILE, *MANIFESTS)) or start
    lineage = [folder for folder in below if folder == project or folder in project.parents]
    deep = start != home and _nearest(below, marks) is not None
    above = [folder for folder in upward[upward.index(root) :] if folder == root or folder != Path(folder.anchor)]
    # A nested dokimon.toml, or a repository in a repository, must not make its siblings somebody else's.
    untrusted = _nearest(above[::-1], (SETTINGS_FILE, *_REPOSITORY)) or root
    if root == home or (_is_common(root) and not _nearest([root], _REPOSITORY)):
        untrusted = root / ".nothing-is-below"
    return Checkout(root=root, project=project, lineage=tuple(reversed(lineage)), untrusted=untrusted, deep=deep)


_OF_THE_SYSTEM = frozenset({
    "/bin", "/boot", "/dev", "/etc", "/home", "/lib", "/media", "/mnt", "/opt", "/root", "/run", "/sbin", "/snap",
    "/srv", "/tmp", "/usr", "/usr/bin", "/usr/lib", "/usr/local", "/usr/local/bin", "/usr/share", "/var", "/var/tmp",
    "/Applications", "/Library", "/System", "/Users", "/Volumes", "/private", "/private/tmp",
})  # fmt: skip


def _is_common(folder: Path) -> bool:
    """Whether a folder is the system's, or that of all homes: what lies in it is no one project's."""
    return str(folder) in _OF_THE_SYSTEM or folder == Path(folder.anchor)


_DEEPEST_PROJECT = 4
_MOST_FOLDERS = 20_000


def projects_below(folder: Path) -> list[str]:
    """Return the nearest folders below `folder` that hold a project, relative to it; at most a few levels deep.

    Hidden folders and those that tools fill are passed over, and links are not followed.
    """
    found: list[str] = []
    waiting = deque([(str(folder), 0)])
    for _ in range(_MOST_FOLDERS):
        if not waiting:
            break
        here, depth = waiting.popleft()
        for name in _folders_in(here):
            inside = f"{here}/{name}"
            if name.startswith(".") or name in FILLED_BY_TOOLS:
                continue
            if not _MARKS.isdisjoint(_names_in(inside)):
                found.append(inside[len(str(folder)) + 1 :])
            elif depth + 1 < _DEEPEST_PROJECT:
                waiting.append((inside, depth + 1))
    return sorted(found)


_MARKS = frozenset((SETTINGS_FILE, *_REPOSITORY, *_PARTS))


def _names_in(folder: str) -> list[str]:
    try:
        return os.listdir(folder)  # noqa: PTH208 (names alone, and fast)
    except OSError:
        return []


def _folders_in(folder: str) -> list[str]:
    try:
        with os.scandir(folder) as entries:
            return sorted(each.name for each in entries if each.is_dir(follow_symlinks=False))
    except OSError:
        return []


def _nearest(folders: list[Path], names: tuple[str, ...]) -> Path | None:
    return next((folder for folder in folders if any((folder / name).exists() for name in names)), None)
