"""How it went over time: a line per record, and which took longer than is usual for this machine and plan."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from pathlib import Path
from statistics import median
from typing import Any, Final, Literal, NamedTuple

import msgspec

from dokimon.core.records.remembering import is_row_of
from dokimon.core.report.rows import Row

FORMAT: Final = "dokimon-history/1"
SCHEMA_FILE = Path(__file__).parent / "dokimon-history-1.schema.json"

FEWEST = 8
"""Records of the same machine and plan that passed; what is usual cannot be said of fewer."""
_DEVIATIONS, _SCALE = 3.0, 1.4826
"""The median absolute deviation times 1.4826 estimates the standard deviation of a normal distribution (Hampel 1974)."""
_AT_LEAST, _BY = 0.2, 1.2
"""Seconds, and times the median: what is less than that slower nobody feels."""

MEASURES = ("prepare", "up", "answer", "stop")
"""The times that are compared."""


class Usual(msgspec.Struct, frozen=True):
    """What is usual for a time: the median and the median absolute deviation, in seconds, of so many records."""

    median: float
    deviation: float
    records: int

    def is_slower(self, seconds: float) -> bool:
        """Whether a time is longer than usual: by three deviations, a fifth, and a fifth of a second."""
        limit = self.median + _DEVIATIONS * _SCALE * self.deviation
        return seconds > max(limit, self.median * _BY, self.median + _AT_LEAST)


class Line(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True):
    """One record in a history; `slower` names the times that were longer than usual, with what is usual."""

    row: Row
    slower: dict[str, Usual] = {}


class History(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True):
    """The records of one checkout, the oldest first."""

    format: Literal["dokimon-history/1"]
    root: str
    name: str
    lines: tuple[Line, ...]


def lines_of(rows: Sequence[Row]) -> tuple[Line, ...]:
    """Return a line for each row; what is usual is told by the other records of the same machine and plan that passed."""
    return tuple(Line(row=row, slower=_slower(row, rows)) for row in rows)


def usual(measure: str, row: Row, rows: Sequence[Row]) -> Usual | None:
    """Return what is usual for a time of this row, by the others; None where there are too few."""
    others = [getattr(each, measure) for each in rows if each is not row and each.is_good and is_row_of(each, row)]
    values = [value for value in others if value is not None]
    if len(values) < FEWEST:
        return None
    middle = median(values)
    return Usual(round(middle, 3), round(median(abs(value - middle) for value in values), 3), len(values))


def _slower(row: Row, rows: Sequence[Row]) -> dict[str, Usual]:
    if row.plan is None or row.interrupted:
        return {}
    found = {}
    for measure in MEASURES:
        seconds = getattr(row, measure)
        if seconds is not None and (normal := usual(measure, row, rows)) and normal.is_slower(seconds):
            found[measure] = normal
    return found


class _Column(NamedTuple):
    name: str
    of: Any


_COLUMNS = (
    *(_Column(name, lambda line, name=name: getattr(line.row, name)) for name in ("at", "command", "verdict", "commit")),
    *(_Column(name, lambda line, name=name: getattr(line.row, name)) for name in ("branch", "changed", "wrong")),
    *(_Column(f"{name}_seconds", lambda line, name=name: getattr(line.row, name))
      for name in ("verify", "prepare", "up", "answer", "stop", "seconds")),
    _Column("slower", lambda line: " ".join(line.slower)),
    *(_Column(name, lambda line, name=name: getattr(line.row, name)) for name in ("machine", "plan", "dokimon")),
)  # fmt: skip


def as_csv(history: History) -> str:
    """Return the history as CSV (RFC 4180), with a row of names first; times are in seconds."""
    file = io.StringIO()
    writer = csv.writer(file)
    writer.writerow(["total_seconds" if column.name == "seconds_seconds" else column.name for column in _COLUMNS])
    for line in history.lines:
        values = [column.of(line) for column in _COLUMNS]
        writer.writerow(["" if value is None else _no_formula(value) for value in values])
    return file.getvalue()


def _no_formula(value: object) -> object:
    """Return a text that no spreadsheet takes for a formula."""
    return f"'{value}" if isinstance(value, str) and value[:1] in ("=", "+", "-", "@") else value


def encode(history: History) -> str:
    """Return the history as indented JSON text that ends with a newline."""
    return msgspec.json.format(msgspec.json.encode(history), indent=2).decode() + "\n"


def schema() -> dict[str, Any]:
    """Return the JSON Schema of a history, made from its types."""
    from dokimon.core.report.as_json import described

    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": f"A history of Dokimon ({FORMAT})",
        **described(msgspec.json.schema(History)),
    }


if __name__ == "__main__":
    from dokimon.core.report.as_json import write_schema

    write_schema(SCHEMA_FILE, schema())
