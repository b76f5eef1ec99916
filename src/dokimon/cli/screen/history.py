"""What was recorded, as text for people: a line for each record. Without Rich: loading it takes longer than all else."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

from dokimon.cli.screen.plain import Plain
from dokimon.core.records.history import MEASURES, History, Line, Usual
from dokimon.core.records.remembering import shown_time
from dokimon.core.text import counted

_LAST = 30
_TITLES = {"prepare": "prepare", "up": "up", "answer": "answer", "stop": "stop"}
_STYLES = {"met": "green", "passed": "green", "unmet": "bold red", "failed": "bold red", "interrupted": "dim"}


class _Cell(NamedTuple):
    text: str
    style: str = ""
    right: bool = False


def history_lines(history: History, plain: Plain, *, verbose: bool) -> Iterator[str]:
    """Yield the lines to print: the last records, the newest last, and what was slower than usual."""
    if not history.lines:
        yield "Nothing was recorded of this checkout yet; dokimon verify and dokimon smoke do."
        return
    yield f"{plain.styled(history.name, 'bold')}  {plain.styled(_short(history.root), 'dim')}"
    yield ""
    lines = history.lines if verbose else history.lines[-_LAST:]
    if len(lines) < len(history.lines):
        yield plain.styled(f"{counted(len(history.lines) - len(lines), 'older one')}: --verbose lists them", "dim")
    yield from _table(lines, plain)
    yield from _slower(lines, plain)
    yield ""
    good = sum(line.row.is_good for line in history.lines)
    yield f"{counted(len(history.lines), 'record')}: all was well in {good}"


def _table(lines: Sequence[Line], plain: Plain) -> Iterator[str]:
    measures = [name for name in MEASURES if any(getattr(line.row, name) is not None for line in lines)]
    head = [_Cell(name, "dim") for name in ("when", "commit", "command", "verdict")]
    head += [_Cell(_TITLES[name], "dim", right=True) for name in measures] + [_Cell("what failed first", "dim")]
    rows = [head, *(_cells(line, measures) for line in lines)]
    if not any(cells[-1].text for cells in rows[1:]):
        rows = [cells[:-1] for cells in rows]
    widths = [max(len(cells[column].text) for cells in rows) for column in range(len(head) - 1)]
    for cells in rows:
        room = plain.width
        shown = []
        for cell, width in zip(cells, [*widths, 0][: len(cells)], strict=True):
            text = cell.text if width else _cut(cell.text, room)
            padding = " " * max(width - len(text), 0)
            styled = plain.styled(text, cell.style)
            shown.append(padding + styled if cell.right else styled + padding)
            room -= width + 2
        yield "  ".join(shown).rstrip()


def _cells(line: Line, measures: Sequence[str]) -> list[_Cell]:
    row = line.row
    verdict = "interrupted" if row.interrupted else row.verdict
    return [
        _Cell(shown_time(row.at)),
        _Cell((row.commit or "")[:7] + ("+" if row.changed else "")),
        _Cell(row.command),
        _Cell(verdict, _STYLES.get(verdict, "bold yellow")),
        *(_time(getattr(row, name), line.slower.get(name)) for name in measures),
        _Cell(_short(row.wrong or "")),
    ]


def _time(seconds: float | None, slower: Usual | None) -> _Cell:
    if seconds is None:
        return _Cell("", right=True)
    shown = f"{seconds:.2f} s" if seconds < 100 else f"{seconds:.0f} s"
    return _Cell(f"! {shown}", "bold yellow", right=True) if slower else _Cell(shown, right=True)


def _slower(lines: Sequence[Line], plain: Plain) -> Iterator[str]:
    """Yield in words what the marks mean, for the newest few."""
    for line in [line for line in lines if line.slower][-_MOST_TOLD:]:
        seconds = {name: getattr(line.row, name) for name in line.slower}
        told = [
            f"{_TITLES[name]} {seconds[name]:.2f} s, usually {usual.median:.2f} s"
            for name, usual in line.slower.items()
            if name != "answer" or seconds["answer"] != seconds.get("up")
        ]
        usual = next(iter(line.slower.values()))
        measure = f"median of {usual.records}, median absolute deviation {usual.deviation:.2f} s"
        yield plain.styled(f"! {shown_time(line.row.at)}: {'; '.join(told)} ({measure})", "yellow")


_MOST_TOLD = 3


def _cut(text: str, room: int) -> str:
    return text if len(text) <= max(room, 12) else text[: max(room, 12) - 1] + "…"


def _short(text: str) -> str:
    """Return a text with the home folder in its paths as `~`."""
    home = f"{Path.home()}/"
    return text.replace(home, "~/") if len(home) > 2 else text
