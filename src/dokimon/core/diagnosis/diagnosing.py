"""From what a failed run or step printed to the likely cause, the line that shows it, and what to do.

What is known of failures is data: `dokimon/diagnoses/*.toml`. Overlaps are settled by the ranks in it, not by the order of
files: of two causes that one line shows, the one of the higher rank is told.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import cache
from pathlib import Path

import msgspec

from dokimon.core.report.model import Diagnosis, Remedy
from dokimon.core.text import clean

_FOLDER = Path(__file__).parents[2] / "diagnoses"
_MOST = 2
"""Causes that are told: a reader wants the likely one, and perhaps a second."""


class RemedyTemplate(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What to do: a sentence and perhaps a command. `{name}` stands for a group of the pattern."""

    say: str
    command: str | None = None


class Cause(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """One cause of failures.

    `lines` are patterns of output lines that show it, `exits` exit statuses that do so alone. `cause` and the steps may
    hold `{name}` for the groups of the pattern that matched. Of causes that the same line shows, the highest `rank`
    counts; `look` names what Dokimon itself looks up for it (who holds a port, where a command lies). `shown` and
    `not_shown` are samples of real output: a test holds the patterns against them.
    """

    cause: str
    rank: int = 50
    lines: list[str] = []
    exits: list[int] = []
    look: str | None = None
    steps: list[RemedyTemplate] = []
    shown: list[str] = []
    not_shown: list[str] = []


Look = Callable[[Mapping[str, str]], Sequence[Remedy]]
"""Looks up what is known here about a cause: the groups of the pattern in, remedies out."""


@cache
def known_causes() -> dict[str, Cause]:
    """Return all causes that ship with Dokimon, by name."""
    found: dict[str, Cause] = {}
    for path in sorted(_FOLDER.glob("*.toml")):
        found |= msgspec.convert(tomllib.loads(path.read_text("utf-8")), dict[str, Cause])
    return found


def diagnose(
    lines: Iterable[str], exit_status: int | None, looks: Mapping[str, Look] | None = None
) -> tuple[Diagnosis, ...]:
    """Return the likely causes of a failure, the likeliest first; none where nothing that is known shows.

    `lines` are what was printed, cleaned. `looks` are ways to look up more, by the names that the data uses.
    """
    best: dict[str, tuple[int, int, str | None, Mapping[str, str]]] = {}
    causes = known_causes()
    for number, line in enumerate(lines):
        for name, groups in _shown_by(line):
            best.setdefault(name, (causes[name].rank, number, line, groups))
    for name, cause in causes.items():
        if exit_status in cause.exits and name not in best:
            best[name] = (cause.rank, 10**9, None, {})
    ordered = sorted(best.items(), key=lambda item: (-item[1][0], item[1][1]))
    return tuple(_told(name, causes[name], line, groups, looks or {}) for name, (_, _, line, groups) in ordered[:_MOST])


def diagnose_start(command: str, fault: str, looks: Mapping[str, Look]) -> tuple[Diagnosis, ...]:
    """Return why a command could not even be started, from what the system said of it."""
    name = "not-executable" if "ermission denied" in fault else "command-not-found" if "No such file" in fault else None
    if name is None:
        return ()
    cause = known_causes()[name]
    return (_told(name, cause, None, {"command": command, "file": command}, looks),)


def _shown_by(line: str) -> Iterable[tuple[str, Mapping[str, str]]]:
    """Return what a line shows: the cause of the highest rank alone."""
    if not line or not _anything().search(line):
        return []
    found = []
    for name, rank, pattern in _patterns():
        if match := pattern.search(line):
            found.append((rank, name, {key: value for key, value in match.groupdict().items() if value}))
    return [(name, groups) for _, name, groups in sorted(found, key=lambda each: -each[0])[:1]]


@cache
def _patterns() -> tuple[tuple[str, int, re.Pattern[str]], ...]:
    return tuple(
        (name, cause.rank, re.compile(pattern)) for name, cause in known_causes().items() for pattern in cause.lines
    )


@cache
def _anything() -> re.Pattern[str]:
    """One pattern that matches whatever any of them does: most lines show nothing, and are passed over at once."""
    plain = (re.sub(r"\?P<\w+>", "?:", pattern.pattern) for _, _, pattern in _patterns())
    return re.compile("|".join(f"(?i:{each[4:]})" if each.startswith("(?i)") else f"(?:{each})" for each in plain))


def _told(name: str, cause: Cause, line: str | None, groups: Mapping[str, str], looks: Mapping[str, Look]) -> Diagnosis:
    looked = looks[cause.look](groups) if cause.look and cause.look in looks else ()
    steps = [
        Remedy(
            _filled(step.say, groups),
            _filled(step.command, groups) if step.command and not _lacking(step.command, groups) else None,
        )
        for step in cause.steps
    ]
    return Diagnosis(
        name=name,
        cause=_filled(cause.cause, groups),
        line=clean(line, 240) if line else None,
        remedies=(*looked, *steps)[:3],
    )


def _lacking(text: str, groups: Mapping[str, str]) -> bool:
    return any(name not in groups for name in re.findall(r"\{(\w+)\}", text))


def _filled(text: str, groups: Mapping[str, str]) -> str:
    """Fill the groups in; the words around one that is not there (in brackets) are left out with it."""
    text = re.sub(r"\[([^\[\]]*)\]", lambda part: "" if _lacking(part[1], groups) else part[1], text)
    return clean(re.sub(r"\{(\w+)\}", lambda name: groups.get(name[1], "it"), text))
