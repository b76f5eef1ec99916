"""A clone: what is committed (or staged), in a fresh folder beside an empty home, and gone when it is over.

The checkout is only read: its objects are borrowed (git-clone(1), --shared), neither its index nor its list of worktrees is
touched. A clone whose maker was killed is removed by the next one.
"""

from __future__ import annotations

import os
import shutil
import stat
import subprocess
import tempfile
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, suppress
from pathlib import Path

import msgspec

from dokimon.core.declarations.revision import git_folder, head_of, index_entries
from dokimon.core.declarations.walking import files_below
from dokimon.core.files import make_for_oneself
from dokimon.core.machine.platform import own_folder
from dokimon.core.processes.systems.face import hold, let_go
from dokimon.core.proving.copying import copy_cheaply
from dokimon.core.proving.git import CloneFault, run_git
from dokimon.core.proving.parts_of_clone import put_in_parts

_MOST_FILES = 100_000


class Clone(msgspec.Struct, frozen=True, kw_only=True):
    """A clone: its `root`, an empty `home` beside it, the commit (None where the folder was copied), what is to be said."""

    root: Path
    home: Path
    commit: str | None
    notes: tuple[str, ...] = ()


@contextmanager
def clone_of(root: Path, environment: Mapping[str, str], *, staged: bool = False) -> Iterator[Clone]:
    """Make a clone of the checkout at `root` for the block; raises `CloneFault`."""
    place = _place(environment)
    _remove_abandoned(place)
    folder = Path(tempfile.mkdtemp(prefix="clone-", dir=place))
    handle = hold(folder / "held")
    remover = _remover(folder)
    try:
        (folder / "home/.cache").mkdir(parents=True)
        target = folder / (root.name or "checkout")
        yield _made(root, target, folder / "home", environment, staged=staged)
    finally:
        if handle is not None:
            let_go(handle)
        remove(folder)
        if remover:
            remover.communicate(b"removed\n")


_REMOVE = """
read -r word && exit
for again in 1 2 3 4 5 6 7 8 9 10; do
    chmod -R u+rwX "$1"; rm -rf "$1"
    [ -e "$1" ] || exit
    sleep 0.3
done
"""
"""Waits until it hears that the folder is removed, or that nobody is there to say so: then it removes it itself."""


def _remover(folder: Path) -> subprocess.Popen[bytes] | None:
    """Start what removes the folder should Dokimon be killed; None where there is no shell. The next clone does it too."""
    try:
        return subprocess.Popen(
            ["/bin/sh", "-c", _REMOVE, "remove-clone", str(folder)], stdin=subprocess.PIPE, stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL, start_new_session=True, cwd="/", env={"PATH": "/usr/bin:/bin"},
        )  # fmt: skip
    except OSError:
        return None


def _place(environment: Mapping[str, str]) -> Path:
    own = own_folder("cache", environment)
    if own is None:
        return Path(tempfile.gettempdir())
    try:
        make_for_oneself(own / "clones")
    except OSError as wrong:
        raise CloneFault(f"{own / 'clones'} cannot be made: {wrong.strerror}") from None
    return own / "clones"


def _remove_abandoned(place: Path) -> None:
    """Remove clones that nobody holds any more."""
    for folder in place.glob("clone-*"):
        with suppress(OSError):
            if (folder / "held").exists() and (handle := hold(folder / "held")) is not None:
                let_go(handle)
                remove(folder)


def remove(folder: Path) -> None:
    """Remove a folder with all in it, also what tools made read-only (as Go does of its modules)."""

    def once_more(function: Callable[[str], object], path: str, error: object) -> None:
        with suppress(OSError):
            Path(path).parent.chmod(stat.S_IRWXU)
            if not Path(path).is_symlink():
                Path(path).chmod(stat.S_IRWXU)
            function(path)

    shutil.rmtree(folder, onerror=once_more)
    if folder.exists():  # what could not be listed before its mode was changed
        shutil.rmtree(folder, ignore_errors=True)


def _made(root: Path, target: Path, home: Path, environment: Mapping[str, str], *, staged: bool) -> Clone:
    git = shutil.which("git", path=environment.get("PATH"))
    folder = git_folder(root) or (root if _is_bare(root) else None)
    commit = head_of(folder)[0] if folder else None
    if git is None or commit is None:
        if staged:
            raise CloneFault("--staged wants a repository of git's with a commit")
        why = "git is not here" if folder and git is None else "it is in no repository of git's with a commit"
        return _copied(root, target, home, f"the folder was copied, since {why}: nobody knows what of it is committed")
    _check_room(root, target.parent)
    run_git(git, ["clone", "-q", "--shared", "--no-checkout", "--no-tags", str(root), str(target)], environment)
    run_git(git, ["-C", str(target), "checkout", "-q", "--detach", commit], environment)
    if staged:
        staged_change = ["diff", "--cached", "--binary", "--no-ext-diff", "--no-textconv", "HEAD"]
        change = run_git(git, ["-C", str(root), *staged_change], environment)
        if change:
            run_git(git, ["-C", str(target), "apply", "--index", "-"], environment, change)
    return Clone(root=target, home=home, commit=commit, notes=tuple(put_in_parts(git, root, target, environment)))


def _is_bare(root: Path) -> bool:
    """Whether a folder is itself what git keeps in `.git` elsewhere (gitrepository-layout(5))."""
    return (root / "HEAD").is_file() and (root / "objects").is_dir() and (root / "refs").is_dir()


def _check_room(root: Path, place: Path) -> None:
    """Raise where the files of the checkout would not fit."""
    wanted = sum(entry.size for entry in index_entries(root) or ())
    free = shutil.disk_usage(place).free
    if wanted > free:
        raise CloneFault(f"a clone takes {wanted / 1e6:,.0f} MB, and {place} has {free / 1e6:,.0f} MB left")


def _copied(root: Path, target: Path, home: Path, note: str) -> Clone:
    """Copy what a person may have written: no folder that tools fill, no link out of the checkout, no pipe."""
    found, every = files_below(root, _MOST_FILES)
    if not every:
        raise CloneFault(f"the folder has more than {_MOST_FILES:,} files, and no git says which of them count")
    if sum(status.st_size for status in found.values()) > shutil.disk_usage(target.parent).free:
        raise CloneFault(f"{target.parent} has too little room for a copy of the folder")
    target.mkdir()
    for path in found:
        name = path.rpartition("/")[2]
        if name == ".env" or (name.startswith(".env.") and "example" not in name):
            continue  # it is one's own, and nobody commits it
        (target / path).parent.mkdir(parents=True, exist_ok=True)
        with suppress(OSError):
            copy_cheaply(root / path, target / path)
    return Clone(root=target, home=home, commit=None, notes=(note,))


def uncommitted_files(root: Path, clone: Clone) -> list[str]:
    """Return the files of the checkout that a person may have written and that the clone has not."""
    found, _ = files_below(root, _MOST_FILES)
    return sorted(path for path in found if not os.path.lexists(clone.root / path))
