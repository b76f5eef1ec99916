"""Files that a check changes are put back, whatever happens: what they were is written down before they are touched.

The journal is a folder of Dokimon's own. Each entry is three files: what the file was, what is put there for a while, and
whose it is. As long as an entry is there, the file may hold something else than it should; the next Dokimon in that
checkout puts it back.
"""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Mapping
from pathlib import Path

import msgspec

from dokimon.core.declarations.checkout import find_checkout
from dokimon.core.digests import blake2b
from dokimon.core.faults import Fault
from dokimon.core.files import inside, is_ones_own, make_for_oneself
from dokimon.core.machine.platform import own_folder
from dokimon.core.processes.systems.face import hold, let_go

_FORGOTTEN_AFTER = 3600.0
"""Seconds; a younger copy may belong to a Dokimon that is about to write its entry."""


class Entry(msgspec.Struct, frozen=True, kw_only=True):
    """One change: the checkout, the file below it, the process that does it and when that was started."""

    root: str
    file: str
    pid: int
    started: float


class JournalFault(Fault):
    """The file cannot be changed safely; the text says why."""


class Change:
    """A change of one file that is undone at the end. Use it in a `with` statement; `undo` may be called before."""

    def __init__(self, path: Path, root: Path, changed: bytes, environment: Mapping[str, str]) -> None:
        folder = _folder(environment)
        if folder is None or inside(folder, root):
            raise JournalFault("Dokimon has no folder of its own, outside the checkout, in which to keep the original")
        self._path, self._changed, self._original = path, changed, path.read_bytes()
        name = blake2b(os.fsencode(path), digest_size=8).hexdigest()
        self._entry = folder / f"{name}.json"
        pid = os.getpid()
        self._made = Entry(
            root=str(root), file=path.relative_to(root).as_posix(), pid=pid, started=_started(pid) or 0.0
        )
        self._open = False
        self._held: int | None = None

    def __enter__(self) -> Change:
        make_for_oneself(self._entry.parent)
        if not is_ones_own(self._entry.parent):
            raise JournalFault(f"others may write to {self._entry.parent}, where its original would be kept")
        self._held = hold(self._entry.with_suffix(".lock"))
        if self._held is None:
            raise JournalFault("another Dokimon is changing it at this moment")
        if self._entry.exists() or self._path.read_bytes() != self._original:
            let_go(self._held)
            raise JournalFault("another Dokimon was changing it a moment ago")
        # The copies are whole on the disk before the entry names them, and all three before the file is touched.
        try:
            _write_whole(_was(self._entry), self._original)
            _write_whole(_set(self._entry), self._changed)
            _write_whole(self._entry, msgspec.json.encode(self._made))
        except OSError:
            let_go(self._held)
            raise
        self._open = True
        _overwrite(self._path, self._changed)
        return self

    def undo(self) -> None:
        """Put the file back, and strike the entry."""
        if self._open:
            _overwrite(self._path, self._original)
            _strike(self._entry)
            self._open = False
            if self._held is not None:
                let_go(self._held)

    def __exit__(self, *_: object) -> None:
        self.undo()


def put_back(within: Path, environment: Mapping[str, str]) -> list[str]:
    """Put back the files that an earlier Dokimon was killed over; return what was done, in words.

    Those of the checkout around the folder `within` are meant, and of those below it. A journal to which others may write is
    not obeyed.
    """
    folder = _folder(environment)
    if folder is None or not folder.is_dir() or inside(folder, find_checkout(within).untrusted):
        return []  # in the checkout it would be the checkout's word
    if not is_ones_own(folder):
        return [f"{folder} is not yours alone: what it says was being changed is not put back"]
    sentences = []
    for path in sorted(folder.glob("*.json")):
        try:
            entry = msgspec.json.decode(path.read_bytes(), type=Entry)
        except (OSError, msgspec.DecodeError):
            continue
        root = Path(entry.root)
        mine = within.is_relative_to(root) or root.is_relative_to(within)
        if mine and _started(entry.pid) != entry.started:
            sentence = _put_back(entry, path)
            sentences += [sentence] if sentence else []
    _sweep(folder)
    return sentences


def _sweep(folder: Path) -> None:
    """Remove copies that no entry names any more: their Dokimon was killed before it touched anything."""
    entries = {path.stem for path in folder.glob("*.json")}
    for path in folder.iterdir():
        if path.suffix != ".kept" and path.name.partition(".")[0] not in entries:
            with contextlib.suppress(OSError):
                if time.time() - path.stat().st_mtime > _FORGOTTEN_AFTER:
                    path.unlink()


def _put_back(entry: Entry, path: Path) -> str | None:
    """Put one file back; somebody's own later change of it is left alone, and the copy is kept beside the journal."""
    file = Path(entry.root, entry.file)
    begun = f"{entry.file} was being changed by a check"
    try:
        original, changed = _was(path).read_bytes(), _set(path).read_bytes()
    except OSError:
        _strike(path)
        return f"{begun}, and its original is lost from {path.parent}"
    try:
        now = file.read_bytes()
    except OSError as wrong:
        return f"{begun} and cannot be put back ({wrong.strerror}); its original is in {_kept(path)}"
    if now == original:
        _strike(path)
        return None
    if not inside(file, Path(entry.root)):
        return f"{begun} and is outside the checkout now; its original is in {_kept(path)}"
    if not (_is_between(now, changed, original) or _is_between(now, original, changed)):
        return f"{begun} and has been edited since; its original is in {_kept(path)}"
    _overwrite(file, original)
    _strike(path)
    return f"restored {entry.file}: an earlier call was killed during a check"


def _is_between(now: bytes, new: bytes, old: bytes) -> bool:
    """Whether a file was left in the middle of being overwritten: the beginning of the new, then the rest of the old."""
    same = next((i for i, (a, b) in enumerate(zip(now, new, strict=False)) if a != b), min(len(now), len(new)))
    return now[same:] == old[same:]


def _was(entry: Path) -> Path:
    return entry.with_suffix(".was")


def _set(entry: Path) -> Path:
    return entry.with_suffix(".set")


def _kept(entry: Path) -> Path:
    """Keep the copy of what a file was for its owner, and strike the rest of the entry."""
    kept = entry.with_suffix(".kept")
    _was(entry).replace(kept)
    _strike(entry)
    return kept


def _folder(environment: Mapping[str, str]) -> Path | None:
    own = own_folder("cache", environment)
    return own / "changes" if own else None


def _started(pid: int) -> float | None:
    """Return when a process was started, so that a later one with its number is not taken for it."""
    import psutil

    try:
        return psutil.Process(pid).create_time()
    except psutil.Error:
        return None


def _write_whole(path: Path, data: bytes) -> None:
    """Write a file so that it is either whole or not there, also after the power fails."""
    part = path.with_suffix(path.suffix + f".{os.getpid()}")
    with os.fdopen(os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "wb") as file:
        file.write(data)
        file.flush()
        os.fsync(file.fileno())
    part.replace(path)


def _overwrite(path: Path, data: bytes) -> None:
    """Write into the file itself: its owner, its mode and the links to it stay as they are."""
    with path.open("r+b") as file:
        file.write(data)
        file.truncate()
        file.flush()
        os.fsync(file.fileno())


def _strike(entry: Path) -> None:
    """The entry goes first: copies without one are nothing that anybody acts on."""
    with contextlib.suppress(OSError):
        for path in (entry, _was(entry), _set(entry)):
            path.unlink(missing_ok=True)
