"""The times of a history as a picture, drawn by Matplotlib (the extra `plot`)."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from itertools import pairwise
from pathlib import Path
from typing import Any, NamedTuple

from dokimon.core.faults import Fault
from dokimon.core.records.history import History
from dokimon.core.report.rows import Row

FORMS = (".svg", ".png", ".pdf")

_PHASES = (("prepare", "prepare"), ("start", "start, until up"), ("check", "checks"), ("stop", "stop"))
_HATCHES = {"prepare": "", "start": "///", "check": "", "stop": "..."}
_MOST = 60
_MOST_NOTES = 8


class PlotFault(Fault):
    """There is nothing to draw; the reason says why."""


class _Theme(NamedTuple):
    ground: str
    ink: str
    quiet: str
    colors: dict[str, str]
    line: str
    failed: str


# Colours that stay apart for every kind of colour vision (Okabe and Ito 2008), lighter ones on a dark ground.
_LIGHT = _Theme(
    "#fbfaf7", "#1d2528", "#566067",
    {"prepare": "#E69F00", "start": "#0072B2", "check": "#009E73", "stop": "#CC79A7"}, "#1d2528", "#D55E00",
)  # fmt: skip
_DARK = _Theme(
    "#14191b", "#e6e9e8", "#a4afb3",
    {"prepare": "#E69F00", "start": "#56B4E9", "check": "#2fbf95", "stop": "#e59ac2"}, "#f0e442", "#ff8a4c",
)  # fmt: skip


def draw_plot(history: History, path: Path, *, dark: bool) -> None:
    """Draw the last smoke checks into a file of 1280x800 points; the ending says the form.

    Above: seconds until it was up and until its first answer. Below: all phases of each, stacked. What failed is marked,
    and so is where the version of a tool changed. Raises `PlotFault`, `OSError`, and `ModuleNotFoundError` without
    Matplotlib.
    """
    rows = [line.row for line in history.lines if line.row.command == "smoke" and not line.row.interrupted]
    rows = [row for row in rows if row.start is not None or row.prepare is not None or not row.is_good][-_MOST:]
    if not any(row.start or row.prepare for row in rows):
        raise PlotFault("no smoke check with times was recorded of this checkout yet")
    import matplotlib

    matplotlib.use("Agg")
    matplotlib.rcParams |= {
        "svg.fonttype": "none",
        "font.family": "sans-serif",
        "svg.hashsalt": "dokimon",
        "hatch.linewidth": 1.4,
    }
    from matplotlib import pyplot

    theme = _DARK if dark else _LIGHT
    figure, (upper, lower) = pyplot.subplots(2, 1, sharex=True, figsize=(12.8, 8), dpi=100, height_ratios=(5, 6))
    figure.set_facecolor(theme.ground)
    places = list(range(len(rows)))
    _draw_starts(upper, rows, places, theme)
    _draw_phases(lower, rows, places, theme)
    _note_tools(upper, rows, theme)
    figure.suptitle(
        f"{history.name}: the last {len(rows)} smoke checks", color=theme.ink, x=0.06, ha="left", fontsize=16
    )
    _label(lower, rows, places, theme)
    figure.subplots_adjust(left=0.06, right=0.985, top=0.9, bottom=0.13, hspace=0.16)
    metadata = {"Date": None} if path.suffix.lower() == ".svg" else None
    try:
        figure.savefig(path, facecolor=theme.ground, metadata=metadata)
    finally:
        pyplot.close(figure)


def _plain(axes: Any, theme: _Theme, title: str) -> None:
    axes.set_facecolor(theme.ground)
    axes.set_title(title, color=theme.ink, loc="left", fontsize=12)
    axes.tick_params(colors=theme.quiet, labelsize=10)
    axes.set_ylabel("seconds", color=theme.quiet, fontsize=11)
    axes.grid(axis="y", color=theme.quiet, alpha=0.25)
    axes.set_axisbelow(True)
    for side, spine in axes.spines.items():
        spine.set_visible(side == "bottom")
        spine.set_color(theme.quiet)


def _legend(axes: Any, theme: _Theme) -> None:
    box = axes.legend(
        frameon=False, fontsize=10.5, loc="lower right", bbox_to_anchor=(1, 1), ncols=5, borderaxespad=0.1
    )
    for text in box.get_texts():
        text.set_color(theme.ink)


def _draw_starts(axes: Any, rows: Sequence[Row], places: Sequence[int], theme: _Theme) -> None:
    _plain(axes, theme, "until it was up")
    up = [row.up if row.up is not None else float("nan") for row in rows]
    answer = [row.answer if row.answer is not None else float("nan") for row in rows]
    axes.plot(places, up, color=theme.colors["start"], marker="o", markersize=6, linewidth=1.8, label="up")
    axes.plot(
        places, answer, color=theme.colors["check"], marker="s", markersize=9, linewidth=1.2, linestyle="--",
        markerfacecolor="none", label="first answer",
    )  # fmt: skip
    failed = [place for place, row in zip(places, rows, strict=True) if not row.is_good]
    if failed:
        axes.plot(
            failed, [0] * len(failed), color=theme.failed, marker="X", markersize=11, linestyle="none", clip_on=False,
            label="did not pass",
        )  # fmt: skip
    highest = max(value for value in (*up, *answer, 0.01) if value == value)  # noqa: PLR0124 (what is not known is no number)
    axes.set_ylim(0, highest * 1.35)  # above, there is room for the notes on tools
    _legend(axes, theme)


def _draw_phases(axes: Any, rows: Sequence[Row], places: Sequence[int], theme: _Theme) -> None:
    _plain(axes, theme, "each phase, of all steps and runs together")
    below = [0.0] * len(rows)
    for name, label in _PHASES:
        values = [getattr(row, name) or 0.0 for row in rows]
        if not any(values):
            continue
        axes.bar(
            places, values, 0.72, bottom=below, color=theme.colors[name], edgecolor=theme.ground, hatch=_HATCHES[name],
            linewidth=0.6, label=label,
        )  # fmt: skip
        below = [low + value for low, value in zip(below, values, strict=True)]
    _legend(axes, theme)


def _note_tools(axes: Any, rows: Sequence[Row], theme: _Theme) -> None:
    """Write at which check another version of a tool was reached than at the one before."""
    changes: list[tuple[int, str]] = []
    for place, (before, now) in enumerate(pairwise(rows), 1):
        other = [f"{tool} {before.tools[tool]} → {version}" for tool, version in sorted(now.tools.items())
                 if before.tools.get(tool, version) != version]  # fmt: skip
        if other:
            changes.append((place, "\n".join(other[:3]) + ("\n…" if len(other) > 3 else "")))
    for number, (place, text) in enumerate(changes[-_MOST_NOTES:]):
        axes.axvline(place - 0.5, color=theme.quiet, linestyle=":", linewidth=1.2)
        right = place > len(rows) * 0.75
        axes.annotate(
            text, (place - 0.5, 1), xycoords=("data", "axes fraction"), xytext=(-5 if right else 5, -4 - 26 * (number % 3)),
            textcoords="offset points", va="top", ha="right" if right else "left", color=theme.ink, fontsize=10,
        )  # fmt: skip


def _label(axes: Any, rows: Sequence[Row], places: Sequence[int], theme: _Theme) -> None:
    every = max(1, len(rows) // 10)
    shown = places[::every]
    axes.set_xticks(shown)
    axes.set_xticklabels([_of(rows[place]) for place in shown], color=theme.quiet, fontsize=10)
    axes.set_xlim(-0.7, len(rows) - 0.3)


def _of(row: Row) -> str:
    try:
        when = datetime.fromisoformat(row.at).astimezone()
    except ValueError:
        return row.at
    return f"{when:%m-%d}\n{when:%H:%M}\n{(row.commit or '')[:7]}"
