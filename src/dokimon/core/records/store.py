"""Where records are kept: one SQLite file in the user's state folder, for all checkouts of the user.

What many records share (the digests of all files, the versions of all packages) is kept once, as a piece.
"""

from __future__ import annotations

import os
import sqlite3
import time
import zlib
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from dokimon.core.digests import blake2b
from dokimon.core.faults import Fault
from dokimon.core.files import bytes_of_file, make_for_oneself, write_for_oneself
from dokimon.core.report.rows import Row

if TYPE_CHECKING:
    from dokimon.core.records.record import Record

KEPT = 200
"""Records of each checkout; those that passed last at their commit stay beyond."""

_FILE, _KEY_FILE = "records.sqlite", "records.key"
_APPLICATION = 0x446F6B69  # "Doki": SQLite keeps it in the header of the file (https://sqlite.org/pragma.html#pragma_application_id)
_VERSION = 1
_WAIT_SECONDS = 2.0
"""How long another process that writes is waited for."""

_LARGEST_CONTENT = 64 * 1024 * 1024

_TABLES = """
CREATE TABLE checkouts (id INTEGER PRIMARY KEY, root TEXT, repository TEXT, folder TEXT, mark TEXT, files BLOB);
CREATE TABLE records (id INTEGER PRIMARY KEY AUTOINCREMENT, checkout INTEGER NOT NULL, good INTEGER NOT NULL,
    commit_id TEXT, command TEXT NOT NULL, summary BLOB NOT NULL, content BLOB NOT NULL);
CREATE INDEX of_checkout ON records (checkout, id);
CREATE TABLE pieces (digest TEXT PRIMARY KEY, content BLOB NOT NULL) WITHOUT ROWID;
CREATE TABLE uses (record INTEGER NOT NULL, place TEXT NOT NULL, piece TEXT NOT NULL, PRIMARY KEY (record, place))
    WITHOUT ROWID;
CREATE INDEX of_piece ON uses (piece);
"""

_PROVEN = """
CREATE TABLE IF NOT EXISTS proven (checkout INTEGER NOT NULL, tools TEXT NOT NULL, content BLOB NOT NULL,
    PRIMARY KEY (checkout, tools)) WITHOUT ROWID
"""
"""Made when something is first proven: files that are older have no such table."""

_PRUNE = """
DELETE FROM records WHERE checkout = :checkout
    AND id NOT IN (SELECT id FROM records WHERE checkout = :checkout ORDER BY id DESC LIMIT :kept)
    AND id NOT IN (SELECT max(id) FROM records WHERE checkout = :checkout AND good GROUP BY commit_id, command)
"""


class RecordsFault(Fault):
    """Records cannot be read or written; the reason says why."""


class Kept(msgspec.Struct, frozen=True):
    """A record as it is listed: its number, and its row."""

    id: int
    row: Row


class Store:
    """The records of this user; `notes` are what is to be said about them (a damaged file that was set aside)."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self.notes: list[str] = []
        self._link: sqlite3.Connection | None = None

    @property
    def exists(self) -> bool:
        """Whether there are any records yet."""
        return (self._folder / _FILE).exists()

    def key(self) -> bytes:
        """Return the key of the digests, which lies beside the records and is made when it is first used."""
        path = self._folder / _KEY_FILE
        try:
            if len(found := bytes_of_file(path, 64)) == 32:
                return found
            raise RecordsFault(f"{path} is not a key of 32 bytes; remove it, and a new one is made")
        except FileNotFoundError:
            pass
        except OSError as wrong:
            raise RecordsFault(f"{path} cannot be read: {wrong.strerror}") from None
        try:
            make_for_oneself(self._folder)
            made = os.urandom(32)
            beside = path.with_name(f"{_KEY_FILE}.{os.getpid()}")
            write_for_oneself(beside, made)
            try:
                os.link(beside, path)  # the first of two at once makes it
            except FileExistsError:
                made = bytes_of_file(path, 64)
            finally:
                beside.unlink()
            return made
        except OSError as wrong:
            raise RecordsFault(f"{path} cannot be written: {wrong.strerror}") from None

    def add(self, checkout: int, record: Record) -> int:
        """Keep a record, prune what is too old, and return its number."""
        from dokimon.core.records.record import row_of  # late: who only lists records needs no report

        row = row_of(record)
        pieces = {place: msgspec.json.encode(value) for place, value in _parts(record).items()}
        bare = msgspec.structs.replace(record.surroundings, files={}, packages={})
        content = msgspec.json.encode(msgspec.structs.replace(record, surroundings=bare))
        with self._writing() as link:
            cursor = link.execute(
                "INSERT INTO records (checkout, good, commit_id, command, summary, content) VALUES (?, ?, ?, ?, ?, ?)",
                (checkout, row.is_good, row.commit, row.command, msgspec.json.encode(row), zlib.compress(content, 1)),
            )
            number = cursor.lastrowid or 0
            for place, value in pieces.items():
                digest = blake2b(value, digest_size=16).hexdigest()
                if not link.execute("SELECT 1 FROM pieces WHERE digest = ?", (digest,)).fetchone():
                    link.execute("INSERT INTO pieces VALUES (?, ?)", (digest, zlib.compress(value, 1)))
                link.execute("INSERT INTO uses VALUES (?, ?, ?)", (number, place, digest))
            if link.execute(_PRUNE, {"checkout": checkout, "kept": KEPT}).rowcount:
                link.execute("DELETE FROM uses WHERE record NOT IN (SELECT id FROM records)")
                link.execute("DELETE FROM pieces WHERE digest NOT IN (SELECT piece FROM uses)")
        return number

    def rows(self, checkout: int) -> list[Kept]:
        """Return all that is kept of a checkout, the oldest first; what cannot be read is passed over, and said."""
        found, unread = [], 0
        for number, summary in self._all("SELECT id, summary FROM records WHERE checkout = ? ORDER BY id", checkout):
            try:
                found.append(Kept(number, msgspec.json.decode(summary, type=Row)))
            except (msgspec.DecodeError, UnicodeDecodeError):
                unread += 1
        if unread:
            self.notes.append(f"{unread} records of another form are passed over")
        return found

    def record(self, number: int) -> Record:
        """Return a record whole; raises `RecordsFault` where it cannot be read."""
        found = self._all("SELECT content FROM records WHERE id = ?", number)
        if not found:
            raise RecordsFault(f"there is no record {number}")
        try:
            record = _decoded(_unpacked(found[0][0]))
            pieces = {
                place: msgspec.json.decode(_unpacked(content))
                for place, content in self._all(
                    "SELECT place, content FROM uses JOIN pieces ON digest = piece WHERE record = ?", number
                )
            }
        except (msgspec.DecodeError, UnicodeDecodeError, zlib.error, ValueError) as wrong:
            raise RecordsFault(f"record {number} cannot be read: {wrong}") from None
        files = pieces.pop("", {})
        around = msgspec.structs.replace(record.surroundings, files=files, packages=dict(sorted(pieces.items())))
        return msgspec.structs.replace(record, surroundings=around)

    def checkouts(self) -> list[tuple[int, str, str | None, str, str | None]]:
        """Return the checkouts that are known: number, root, repository, folder in it, mark."""
        return self._all("SELECT id, root, repository, folder, mark FROM checkouts")

    def add_checkout(self, root: str, repository: str | None, folder: str, mark: str | None) -> int:
        """Keep a new checkout and return its number."""
        with self._writing() as link:
            values = (root, repository, folder, mark)
            made = link.execute("INSERT INTO checkouts (root, repository, folder, mark) VALUES (?, ?, ?, ?)", values)
            return made.lastrowid or 0

    def change_checkout(self, number: int, root: str, repository: str | None, mark: str | None) -> None:
        """Note that a checkout has another root or mark now."""
        with self._writing() as link:
            values = (root, repository, mark, number)
            link.execute("UPDATE checkouts SET root = ?, repository = ?, mark = ? WHERE id = ?", values)

    def known_files(self, checkout: int) -> dict[str, tuple[int, int, str]]:
        """Return size, time and digest of the files of a checkout when they were last looked at."""
        found = self._all("SELECT files FROM checkouts WHERE id = ?", checkout)
        try:
            return msgspec.json.decode(_unpacked(found[0][0]), type=dict[str, tuple[int, int, str]])
        except (IndexError, TypeError, msgspec.DecodeError, zlib.error, ValueError):
            return {}

    def keep_files(self, checkout: int, files: Mapping[str, tuple[int, int, str]]) -> None:
        """Keep what `known_files` returns. A name that is no text (not UTF-8) is left out: that file is read again."""
        named = {path: seen for path, seen in files.items() if path.isascii() or _is_text(path)}
        with self._writing() as link:
            content = zlib.compress(msgspec.json.encode(named), 1)
            link.execute("UPDATE checkouts SET files = ? WHERE id = ?", (content, checkout))

    def proofs(self, checkout: int) -> list[bytes]:
        """Return what was proven last of a checkout under versions of each group of tools, as it was given."""
        if not self._all("SELECT 1 FROM sqlite_master WHERE name = ?", "proven"):
            return []
        return [content for (content,) in self._all("SELECT content FROM proven WHERE checkout = ?", checkout)]

    def keep_proof(self, checkout: int, tools: str, content: bytes) -> None:
        """Keep what was proven of a checkout under versions of some tools, in place of what was proven before."""
        with self._writing() as link:
            link.execute(_PROVEN)
            link.execute("INSERT OR REPLACE INTO proven VALUES (?, ?, ?)", (checkout, tools, content))

    def close(self) -> None:
        """Let go of the file."""
        if self._link:
            self._link.close()
            self._link = None

    def _all(self, question: str, *values: Any) -> list[Any]:
        if not self.exists:
            return []
        with self._telling():
            return self._opened().execute(question, values).fetchall()

    @contextmanager
    def _writing(self) -> Iterator[sqlite3.Connection]:
        with self._telling():
            link = self._opened()
            link.execute("BEGIN IMMEDIATE")
            try:
                yield link
            except BaseException:
                if link.in_transaction:  # where the disk is full, SQLite has ended it itself
                    link.execute("ROLLBACK")
                raise
            link.execute("COMMIT")

    @contextmanager
    def _telling(self) -> Iterator[None]:
        try:
            yield
        except sqlite3.DatabaseError as wrong:
            self.close()
            if _is_damage(wrong):
                self._set_aside(str(wrong))
            raise RecordsFault(f"{self._folder / _FILE}: {wrong}") from None
        except OSError as wrong:
            raise RecordsFault(f"{wrong.filename or self._folder}: {wrong.strerror}") from None

    def _opened(self) -> sqlite3.Connection:
        if self._link:
            return self._link
        path = self._folder / _FILE
        try:
            return self._open(path)
        except sqlite3.DatabaseError as wrong:
            self.close()
            if not _is_damage(wrong):
                raise
            self._set_aside(str(wrong))
            return self._open(path)

    def _open(self, path: Path) -> sqlite3.Connection:
        make_for_oneself(self._folder)
        os.close(os.open(path, os.O_RDWR | os.O_CREAT, 0o600) if os.access(self._folder, os.W_OK)
                 else os.open(path, os.O_RDONLY))  # fmt: skip
        # No checks of which thread calls: one at a time does, and a thread may have opened it beforehand.
        link = sqlite3.connect(path, timeout=_WAIT_SECONDS, isolation_level=None, check_same_thread=False)
        try:
            _make_ready(link, path)
        except BaseException:
            link.close()
            raise
        self._link = link
        return link

    def _set_aside(self, reason: str) -> None:
        path = self._folder / _FILE
        aside = path.with_name(f"{_FILE}.set-aside-{time.strftime('%Y%m%d-%H%M%S')}")
        try:
            path.replace(aside)
            path.with_name(f"{_FILE}-journal").unlink(missing_ok=True)
        except OSError as wrong:
            raise RecordsFault(f"{path} is damaged ({reason}) and cannot be set aside: {wrong.strerror}") from None
        self.notes.append(f"{path} could not be used ({reason}); it is kept as {aside.name}, and a new one was begun")


def _make_ready(link: sqlite3.Connection, path: Path) -> None:
    """Make the tables in a new file; raises `RecordsFault` for one of another version, `DatabaseError` for a foreign one."""
    # The journal is kept and marked as empty: to remove it would wait for the disk, as long again as all of the writing.
    link.execute("PRAGMA journal_mode = PERSIST")
    link.execute("PRAGMA journal_size_limit = 1000000")
    link.execute("PRAGMA synchronous = NORMAL")
    application, version = (link.execute(f"PRAGMA {name}").fetchone()[0] for name in ("application_id", "user_version"))
    if (application, version) == (_APPLICATION, _VERSION):
        return
    if application == _APPLICATION:
        raise RecordsFault(f"{path} was written by another version of Dokimon (form {version}, this is {_VERSION})")
    link.execute("BEGIN IMMEDIATE")
    if link.execute("SELECT count(*) FROM sqlite_master").fetchone()[0]:
        link.execute("ROLLBACK")
        if link.execute("PRAGMA application_id").fetchone()[0] == _APPLICATION:
            return  # another process was faster
        raise sqlite3.DatabaseError(_FOREIGN)
    for statement in filter(str.strip, _TABLES.split(";")):
        link.execute(statement)
    link.execute(f"PRAGMA application_id = {_APPLICATION}")
    link.execute(f"PRAGMA user_version = {_VERSION}")
    link.execute("COMMIT")


_FOREIGN = "another program's database"
_DAMAGE = ("not a database", "malformed", _FOREIGN, "no such table", "no such column", "unsupported file format")


def _is_damage(wrong: sqlite3.DatabaseError) -> bool:
    return any(word in str(wrong) for word in _DAMAGE)


def _parts(record: Record) -> dict[str, Any]:
    """Return what is kept apart, by its place; the empty place is that of the files."""
    around = record.surroundings
    return {**({"": around.files} if around.files else {}), **around.packages}


def _is_text(name: str) -> bool:
    try:
        return bool(name.encode())
    except UnicodeEncodeError:
        return False


def _unpacked(content: bytes) -> bytes:
    unpacking = zlib.decompressobj()
    found = unpacking.decompress(content, _LARGEST_CONTENT)
    if unpacking.unconsumed_tail:
        raise ValueError("it is too large")
    return found


def _decoded(content: bytes) -> Record:
    from dokimon.core.records.record import Record
    from dokimon.core.report.reading import known_part

    return known_part(msgspec.json.decode(content), Record)
