"""What git itself leaves out of a clone and this machine has: submodules, and the contents of files that LFS keeps."""

from __future__ import annotations

import stat
from collections.abc import Iterator, Mapping
from pathlib import Path

from dokimon.core.declarations.revision import Entry, common_folder, git_folder, index_entries
from dokimon.core.expressions import expression
from dokimon.core.files import bytes_of_file, text_of
from dokimon.core.proving.copying import copy_cheaply
from dokimon.core.proving.git import CloneFault, run_git
from dokimon.core.text import clean

_SUBMODULE = 0o160000
"""The mode of a commit in a tree (gitformat-index(5))."""

_DEEPEST = 8

_POINTER = expression(rb"version https://git-lfs\.github\.com/spec/v1\n(?:.*\n)*?oid sha256:([0-9a-f]{64})\n")
"""What LFS puts in place of a file (git-lfs, docs/spec.md)."""

_LARGEST_POINTER = 1024
_ATTRIBUTES = ".gitattributes"


def put_in_parts(git: str, root: Path, target: Path, environment: Mapping[str, str], depth: int = 0) -> Iterator[str]:
    """Put what the checkout at `root` has of them into its clone at `target`; yield what could not be had, in sentences."""
    entries = index_entries(target)
    if entries is None:
        yield "which submodules there are could not be read: their folders are empty"
        return
    if any("filter=lfs" in text_of(target / each.path, 1 << 20) for each in entries if each.path.endswith(_ATTRIBUTES)):
        yield from _large_files(root, target, entries)
    for entry in entries:
        if stat.S_IFMT(entry.mode) == _SUBMODULE:
            yield from _submodule(git, root, target / entry.path, entry, environment, depth)


def _submodule(
    git: str, root: Path, target: Path, entry: Entry, environment: Mapping[str, str], depth: int
) -> Iterator[str]:
    source, name, commit = root / entry.path, clean(entry.path, 200), entry.digest.hex()
    if depth >= _DEEPEST or git_folder(source) is None or not source.resolve().is_relative_to(root.resolve()):
        yield f"the submodule {name} is not in the clone: it is not fetched here"
        return
    try:
        run_git(git, ["clone", "-q", "--shared", "--no-checkout", "--no-tags", str(source), str(target)], environment)
        run_git(git, ["-C", str(target), "checkout", "-q", "--detach", commit], environment)
    except CloneFault:
        yield f"the submodule {name} is empty in the clone: its commit {commit[:7]}, which is recorded, is not here"
        return
    yield from put_in_parts(git, source, target, environment, depth + 1)


def _large_files(root: Path, target: Path, entries: list[Entry]) -> Iterator[str]:
    """Put the contents of files that LFS keeps in the place of their pointers, as far as they were fetched here."""
    folder = git_folder(root)
    kept = common_folder(folder) / "lfs/objects" if folder else root
    missing = 0
    for entry in entries:
        path = target / entry.path
        if entry.size > _LARGEST_POINTER or stat.S_IFMT(entry.mode) != stat.S_IFREG:
            continue
        try:
            found = _POINTER.match(bytes_of_file(path, _LARGEST_POINTER))
        except OSError:
            continue
        if found is None:
            continue
        digest = found[1].decode()
        content = kept / digest[:2] / digest[2:4] / digest
        if content.is_file():
            path.unlink()
            copy_cheaply(content, path)
            path.chmod(stat.S_IMODE(entry.mode) or 0o644)
        else:
            missing += 1
    if missing:
        files = "file that LFS keeps is a pointer" if missing == 1 else "files that LFS keeps are pointers"
        yield f"{missing} {files} in the clone: not fetched here"
