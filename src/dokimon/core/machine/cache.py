"""What programs answered before, kept in one file of Dokimon's own, so that they need not be asked again.

An answer is kept under what identifies the file that gave it: its real path, device, inode, size and times (of its
contents and of its entry), and how it was asked. An upgrade changes at least one of them. A script may do no more than
start another file, and that one may change alone: what a script says is never kept.
"""

from __future__ import annotations

import contextlib
import os
from pathlib import Path

import msgspec

from dokimon.core.files import is_ones_own, replace_for_oneself
from dokimon.core.machine.asking import ToolAnswer
from dokimon.core.machine.catalogue import Ask
from dokimon.core.machine.unrunnable import is_script
from dokimon.core.version import __version__

_MOST = 2000
"""Answers that are kept: more than a machine has programs that are worth asking."""

_FILE = "answers.json"


class _Kept(msgspec.Struct, frozen=True):
    """The file: who wrote it, and the answers by key, the oldest first."""

    written_by: str
    answers: dict[str, ToolAnswer]


class Cache:
    """The answers known before this survey and those it adds. Without a `folder` nothing is known and nothing is kept."""

    def __init__(self, folder: Path | None, *, fresh: bool = False) -> None:
        self._folder = folder
        self._known = {} if fresh or folder is None else _read(folder / _FILE)
        self._new: dict[str, ToolAnswer] = {}

    def key(self, program: Path, how: Ask, arguments: list[str]) -> str | None:
        """Return the key of an answer, or None where an answer of this program must not be kept."""
        if self._folder is None or is_script(program):
            return None
        try:
            status = program.stat()
        except OSError:
            return None
        asked = (
            str(program), os.path.realpath(program), status.st_dev, status.st_ino, status.st_size,
            status.st_mtime_ns, status.st_ctime_ns,
            how.pattern, how.facts, how.others, how.environment, how.keeps, arguments,
        )  # fmt: skip
        return msgspec.json.encode(asked).decode()

    def get(self, key: str | None) -> ToolAnswer | None:
        """Return the answer under this key, or None."""
        return self._known.get(key) if key else None

    def put(self, key: str | None, answer: ToolAnswer) -> None:
        """Keep an answer; a mere reason for not answering is not kept: the next time may go better."""
        if key and (answer.version or answer.another or answer.output):
            self._new[key] = answer

    def save(self) -> None:
        """Write the file anew if anything was added. Where that cannot be done, the next survey asks again.

        The new file takes the place of the old one in one step: a reader sees the one or the other. When two
        surveys end at once, the answers of one may be lost, and are asked for again.
        """
        if not self._new or self._folder is None:
            return
        with contextlib.suppress(OSError):
            answers = {**_read(self._folder / _FILE), **self._new}
            kept = _Kept(__version__, dict(list(answers.items())[-_MOST:]))
            replace_for_oneself(self._folder / _FILE, msgspec.json.encode(kept))
            self._new = {}


def _read(file: Path) -> dict[str, ToolAnswer]:
    """Return the answers in the file; none where it is damaged, of another Dokimon, or of another user."""
    try:
        if not is_ones_own(file.parent) or not is_ones_own(file):
            return {}
        kept = msgspec.json.decode(file.read_bytes(), type=_Kept)
    except (OSError, msgspec.MsgspecError, UnicodeDecodeError):
        return {}
    return kept.answers if kept.written_by == __version__ else {}
