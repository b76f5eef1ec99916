"""Which checkout it is: known by its folder, and, where that moved, by its repository and the place in it."""

from __future__ import annotations

from pathlib import Path

from dokimon.core.declarations.revision import git_folder, repository_above
from dokimon.core.digests import blake2b
from dokimon.core.records.store import Store


def find_place(store: Store, root: Path) -> int | None:
    """Return the number of the checkout at `root`, or None where nothing was recorded of it, wherever it was."""
    known = store.checkouts()
    if not known:
        return None
    mark = _mark(root)
    at = next((each for each in known if each[1] == str(root)), None)
    if at and at[4] == mark:
        return at[0]
    repository, below = repository_of(root), _below(root)
    if at and (repository is None or at[2] is None or _is_same(at[2], repository)):
        return at[0]
    alike = [each for each in known if _is_same(each[2], repository) and each[3] == below]
    moved = [each for each in alike if not Path(each[1]).is_dir()]
    return moved[-1][0] if moved else None


def _is_same(one: str | None, other: str | None) -> bool:
    """Whether two digests are of one repository: its first commit tells, and where that is not known, its remote."""
    if one is None or other is None:
        return False
    (first, remote), (other_first, other_remote) = one.split(), other.split()
    if _UNKNOWN in (first, other_first):
        return remote == other_remote != _UNKNOWN
    return first == other_first


_UNKNOWN = "?"


def settle_place(store: Store, root: Path) -> int:
    """Return the number of the checkout at `root`; it is noted where it is new, has moved, or another took its place."""
    number = find_place(store, root)
    mark, at = _mark(root), str(root)
    if number is None:
        for other, where, repository, _, its_mark in store.checkouts():
            if where == at:  # another repository took its place
                store.change_checkout(other, "", repository, its_mark)
        return store.add_checkout(at, repository_of(root), _below(root), mark)
    _, where, repository, _, its_mark = next(each for each in store.checkouts() if each[0] == number)
    if (where, its_mark) != (at, mark):
        store.change_checkout(number, at, repository_of(root) or repository, mark)
    return number


def repository_of(root: Path) -> str | None:
    """Return digests of the repository's first commit and of its remote, `?` for what is not known; None without both."""
    top = repository_above(root)
    if top is None:
        return None
    from dokimon.core.declarations.commits import first_commit, remote_of  # seldom: for what is new, or has moved

    first, remote = first_commit(top), remote_of(top)
    if first is None and remote is None:
        return None
    return " ".join(blake2b(each.encode(), digest_size=8).hexdigest() if each else _UNKNOWN for each in (first, remote))


def _below(root: Path) -> str:
    """Return the folder below its repository: several projects in one repository are checkouts of their own."""
    top = repository_above(root)
    return root.relative_to(top).as_posix() if top else "."


def _mark(root: Path) -> str | None:
    """Return what stays the same as long as a folder holds the same repository: the file number of git's folder."""
    top = repository_above(root)
    folder = git_folder(top) if top else None
    try:
        return str(folder.stat().st_ino) if folder else None
    except OSError:
        return None
