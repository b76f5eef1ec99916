"""Keeping a record of a report, and finding the one that it last passed at."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import suppress
from datetime import datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING

from dokimon.core.files import inside
from dokimon.core.machine.platform import own_folder
from dokimon.core.records.places import find_place, settle_place
from dokimon.core.records.store import Kept, RecordsFault, Store
from dokimon.core.report.rows import Row
from dokimon.core.text import clean

if TYPE_CHECKING:
    from dokimon.core.records.record import Record
    from dokimon.core.report.model import Report


def store_of(environment: Mapping[str, str], untrusted: Path) -> Store | None:
    """Return the records of this user; None without a home, or where variables put them into the checkout."""
    folder = own_folder("state", environment)
    return None if folder is None or inside(folder, untrusted) else Store(folder)


class Memory:
    """The records of one project: of the folder `project` of the checkout at `root`.

    They are kept under the folder of the project. Those of old lie under the root, of whichever project they are.
    """

    def __init__(self, store: Store, root: Path, project: Path) -> None:
        self.store, self._root, self._project = store, root, project
        self._place: int | None = None
        self._looked = False

    @property
    def place(self) -> int | None:
        """The number of the project in the store, or None where nothing was recorded of it; raises `RecordsFault`."""
        if not self._looked:
            self._place, self._looked = find_place(self.store, self._project), True
        return self._place

    def rows(self) -> list[Kept]:
        """Return what is kept, the oldest first; raises `RecordsFault`."""
        own = [] if self.place is None else self.store.rows(self.place)
        root = find_place(self.store, self._root) if self._project != self._root else None
        every = [*own, *(self.store.rows(root) if root is not None and root != self.place else [])]
        below = clean(self._project.relative_to(self._root).as_posix())
        return sorted((each for each in every if self._folder_of(each) == below), key=lambda each: each.id)

    def _folder_of(self, kept: Kept) -> str:
        """Return the folder of the project that a record is of; one of old says it in its report alone."""
        if kept.row.folder is not None:
            return kept.row.folder
        with suppress(RecordsFault):
            return self.store.record(kept.id).report.project.folder or "."
        return "."

    def known_files(self) -> dict[str, tuple[int, int, str]]:
        """Return what is known of the files of the checkout; nothing where that cannot be read."""
        with suppress(RecordsFault):
            return {} if self.place is None else self.store.known_files(self.place)
        return {}

    def keep(self, record: Record, files: Mapping[str, tuple[int, int, str]]) -> None:
        """Keep a record, and what its files hold; raises `RecordsFault`."""
        self._place, self._looked = settle_place(self.store, self._project), True
        self.store.add(self._place, record)
        if files:
            self.store.keep_files(self._place, files)


def passed_before(rows: Sequence[Kept], report: Report) -> Kept | None:
    """Return the last record at which what does not pass now did: all of it, or at least the runs that fail now."""
    failing = {run.name for run in report.runs or () if run.verdict != "passed"}
    stopped_early = report.command == "smoke" and not report.runs and not report.prepared
    for kept in reversed(rows):
        row = kept.row
        if row.interrupted:
            continue
        if failing and row.command == "smoke" and failing <= set(row.passed):
            return kept
        # That a smoke check passed says that its needs were met.
        if not failing and row.is_good and (row.command == "smoke" or report.command == "verify" or stopped_early):
            return kept
    return None


def last_passed(rows: Sequence[Kept]) -> Kept | None:
    """Return the last record at which all passed: of a smoke check, where there is one."""
    good = [kept for kept in rows if kept.row.is_good]
    return next((kept for kept in reversed(good) if kept.row.command == "smoke"), good[-1] if good else None)


def since(rows: Sequence[Kept], asked: str) -> Kept:
    """Return the record that is meant by `last`, a date or time (ISO 8601), or a revision: the last one at that time or
    revision. Raises `RecordsFault` where there is none.
    """
    if not rows:
        raise RecordsFault("nothing was recorded of this checkout yet; dokimon verify and dokimon smoke do")
    if asked == "last":
        return rows[-1]
    wanted = asked.lower()
    at = [kept for kept in rows if len(wanted) >= _SHORTEST and (kept.row.commit or "").startswith(wanted)]
    if at:
        good = [kept for kept in at if kept.row.is_good]
        return (good or at)[-1]
    when = _moment(asked)
    if when is not None:
        before = [kept for kept in rows if datetime.fromisoformat(kept.row.at) <= when]
        if before:
            return before[-1]
        raise RecordsFault(f"no record is as old as {asked}; the oldest is of {shown_time(rows[0].row.at)}")
    if len(wanted) >= _SHORTEST and not set(wanted) - set("0123456789abcdef"):
        raise RecordsFault(f"no record was made at commit {asked}; dokimon history lists those there are")
    raise RecordsFault(
        f"{asked!r} is no date (2026-11-20), time (2026-11-20T14:00), revision (3fa1c2d) or the word last"
    )


_SHORTEST = 4
"""Digits of a revision; fewer name half of all."""


def _moment(asked: str) -> datetime | None:
    """Return the moment meant: the end of a day, or of a minute; in the time of this machine where no other is named."""
    try:
        when = datetime.fromisoformat(asked)
    except ValueError:
        return None
    if len(asked) <= len("2026-11-20"):
        when += timedelta(days=1, microseconds=-1)
    elif when.second == 0:
        when += timedelta(minutes=1, microseconds=-1)
    return when.astimezone()


def shown_time(at: str) -> str:
    """Return a time of a record as people read it here: local, to the minute."""
    try:
        return datetime.fromisoformat(at).astimezone().strftime("%Y-%m-%d %H:%M")
    except ValueError:
        return at


def is_row_of(row: Row, other: Row) -> bool:
    """Whether times of two rows may be compared: the same plan on the same machine."""
    return (row.plan, row.machine) == (other.plan, other.machine) and row.plan is not None
