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
from dokimon.core.faults import Fault
from dokimon.core.files import make_for_oneself, text_of
from dokimon.core.locking import hold, let_go
from dokimon.core.machine.platform import own_folder
from dokimon.core.text import clean

_SECONDS = 300.0
_MOST_FILES = 100_000


class CloneFault(Fault):
    """No clone could be made; the reason says why."""


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
    try:
        (folder / "home/.cache").mkdir(parents=True)
        target = folder / (root.name or "checkout")
        yield _made(root, target, folder / "home", environment, staged=staged)
    finally:
        if handle is not None:
            let_go(handle)
        remove(folder)


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
    folder = git_folder(root)
    commit = head_of(folder)[0] if folder else None
    if git is None or commit is None:
        if staged:
            raise CloneFault("--staged wants a repository of git's with a commit")
        why = "git is not here" if folder and git is None else "it is in no repository of git's with a commit"
        return _copied(root, target, home, f"the folder was copied, since {why}: nobody knows what of it is committed")
    _check_room(root, target.parent)
    _git(git, ["clone", "-q", "--shared", "--no-checkout", "--no-tags", str(root), str(target)], environment)
    _git(git, ["-C", str(target), "checkout", "-q", "--detach", commit], environment)
    if staged:
        staged_change = ["diff", "--cached", "--binary", "--no-ext-diff", "--no-textconv", "HEAD"]
        change = _git(git, ["-C", str(root), *staged_change], environment)
        if change:
            _git(git, ["-C", str(target), "apply", "--index", "-"], environment, change)
    return Clone(root=target, home=home, commit=commit, notes=tuple(_notes(target)))


_GUARDS = [
    word
    for each in (
        "core.hooksPath=/dev/null",
        "core.fsmonitor=false",
        "protocol.allow=never",
        "protocol.file.allow=always",
    )
    for word in ("-c", each)
]
_QUIET = {"GIT_TERMINAL_PROMPT": "0", "GIT_OPTIONAL_LOCKS": "0", "GIT_LFS_SKIP_SMUDGE": "1", "LC_ALL": "C"}


def _git(git: str, arguments: list[str], environment: Mapping[str, str], given: bytes = b"") -> bytes:
    """Run git without hooks, helpers of the checkout, questions, or the download of large files; return what it printed."""
    variables = {**environment, **_QUIET}
    for name in ("GIT_DIR", "GIT_WORK_TREE", "GIT_INDEX_FILE"):
        variables.pop(name, None)
    try:
        ended = subprocess.run(
            [git, *_GUARDS, *arguments], env=variables, input=given, capture_output=True, timeout=_SECONDS, check=False
        )
    except (OSError, subprocess.TimeoutExpired) as wrong:
        raise CloneFault(f"git could not make the clone: {wrong}") from None
    if ended.returncode:
        said = ended.stderr.decode("utf-8", "replace").strip().splitlines()
        raise CloneFault(clean(f"git could not make the clone: {said[-1] if said else ended.returncode}"))
    return ended.stdout


def _check_room(root: Path, place: Path) -> None:
    """Raise where the files of the checkout would not fit."""
    wanted = sum(entry.size for entry in index_entries(root) or ())
    free = shutil.disk_usage(place).free
    if wanted > free:
        raise CloneFault(f"a clone takes {wanted / 1e6:,.0f} MB, and {place} has {free / 1e6:,.0f} MB left")


def _notes(target: Path) -> Iterator[str]:
    if (target / ".gitmodules").is_file():
        yield "the submodules are not in the clone: their folders are empty"
    if "filter=lfs" in text_of(target / ".gitattributes", 1 << 20):
        yield "files that LFS keeps are pointers in the clone, not fetched"


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
            shutil.copy2(root / path, target / path, follow_symlinks=False)
    return Clone(root=target, home=home, commit=None, notes=(note,))


def uncommitted_files(root: Path, clone: Clone) -> list[str]:
    """Return the files of the checkout that a person may have written and that the clone has not."""
    found, _ = files_below(root, _MOST_FILES)
    return sorted(path for path in found if not os.path.lexists(clone.root / path))
