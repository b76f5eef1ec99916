"""What is other of the packages, of the files of the checkout, and of its revision."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Mapping

from dokimon.core.expressions import expression
from dokimon.core.records.found import STEPS, Found, step
from dokimon.core.records.packages import is_installed, is_lock_file, tool_of
from dokimon.core.records.record import Record
from dokimon.core.report.model import Report
from dokimon.core.text import counted


def packages_differ(before: Record, after: Record) -> Iterator[Found]:
    """Yield the places whose packages are other: lock files first, then what is installed where that is not the same."""
    then, now = before.surroundings.packages, after.surroundings.packages
    direct = {*before.surroundings.direct, *after.surroundings.direct}
    told: list[set[str]] = []
    for place in sorted({*then, *now}, key=lambda each: (is_installed(each), each)):
        old, new, tool = then.get(place), now.get(place), tool_of(place)
        if old is None or new is None:
            lacking = before if old is None else after
            if lacking.surroundings.all_files < (before.surroundings.all_files or after.surroundings.all_files):
                continue  # that side read manifests alone: it may be there all the same
            there = old if new is None else new
            count = counted(len(there or ()), "package")
            if is_installed(place):
                says = f"{place} is {'gone' if new is None else 'there, it was not before'} ({count})"
            else:
                says = f"{place} is {'gone' if new is None else 'new'} ({count})"
            yield Found("packages", place, says, tool=tool, words=(place,), big=new is None, used=new is None)
            continue
        changes = _changes(old, new, direct)
        # What is installed follows the lock file, less what is for other systems.
        if not changes or any(set(changes) <= each for each in told):
            continue
        told.append(set(changes))
        shown = ", ".join(changes[:_MOST_NAMED]) + (" …" if len(changes) > _MOST_NAMED else "")
        lock = "has other packages" if is_installed(place) else "changed"
        names = tuple(change.split(" ")[0] for change in changes[:_MOST_WORDS])
        big = any(step(old.get(name), new.get(name)) == "major" for name in names)
        says = f"{place} {lock} ({counted(len(changes), 'package')}: {shown})"
        yield Found("packages", place, says, more=tuple(changes), tool=tool, words=names, big=big)


_MOST_NAMED = 3
_MOST_WORDS = 200


_FOR_ONE_SYSTEM = expression(
    r"(?:linux|darwin|win32|windows|freebsd|openbsd|netbsd|android|sunos|openharmony|aix|wasm)\b"
)


def _changes(old: Mapping[str, str], new: Mapping[str, str], direct: Collection[str]) -> list[str]:
    """Return what is other of the packages: those that the project names itself first, then the greatest steps."""
    found = []
    for name in {*old, *new}:
        before, after = old.get(name), new.get(name)
        if before == after:
            continue
        if before and after:
            text = f"{name} {before} → {after}"
        else:
            text = f"{name} {after} is new" if after else f"{name} {before} is gone"
        far = bool(_FOR_ONE_SYSTEM.search(name)), name not in direct, STEPS[step(before, after)]
        found.append((far, name, text))
    return [text for _, _, text in sorted(found)]


_NOT_SOURCE = expression(
    r"(?:^|/)(?:docs?|tests?|__tests__|spec|examples?|\.github|\.vscode|\.idea)/|\.(?:md|rst|adoc|txt|log|lock|png|jpe?g|gif|svg|ico|map|db|sqlite3?|pyc|pid|tsbuildinfo)$"
    r"|(?:^|/)(?:LICENSE|NOTICE|CHANGELOG|AUTHORS|\.gitignore|\.editorconfig)[^/]*$",
    re.IGNORECASE,
)


def files_differ(before: Record, after: Record, told: frozenset[str], apart: bool) -> Iterator[Found]:
    """Yield the files that changed, came or went, but for those `told` of elsewhere."""
    then, now = before.surroundings.files, after.surroundings.files
    whole = before.surroundings.all_files and after.surroundings.all_files
    changed = {path: f"{path} changed" for path in then if path in now and then[path] != now[path]}
    if whole or before.surroundings.all_files:
        changed |= {path: f"{path} is new" for path in now if path not in then}
    if whole or after.surroundings.all_files:
        changed |= {path: f"{path} is gone" for path in then if path not in now}
    if apart:
        changed = {path: says.replace("is new", "is only here").replace("is gone", "is only there")
                   for path, says in changed.items()}  # fmt: skip
    with_packages = {*before.surroundings.packages, *after.surroundings.packages}
    for path in sorted(changed):
        if path in told or (path in with_packages and is_lock_file(path)):
            continue
        name = path.rpartition("/")[2]
        source = not _NOT_SOURCE.search(path)
        yield Found("files", path, changed[path], words=(path, name), big=False, used=source)


def commits_differ(before: Report, after: Report) -> Iterator[Found]:
    """Yield another branch, another commit."""
    old, new = before.made, after.made
    if old is None or new is None:
        return
    if old.branch != new.branch and old.branch and new.branch:
        yield Found("files", "branch", f"the branch is {new.branch}, it was {old.branch}", old.branch, new.branch)
    if old.commit != new.commit and old.commit and new.commit:
        says = f"the commit is {new.commit[:7]}, it was {old.commit[:7]}"
        yield Found("files", "commit", says, old.commit[:7], new.commit[:7])
