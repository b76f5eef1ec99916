"""What is known of failures, as data: `dokimon/diagnoses/*.toml`, by topic."""

from __future__ import annotations

import re
import tomllib
from functools import cache
from pathlib import Path
from typing import NamedTuple

import msgspec

from dokimon.core.diagnosis.needed_words import NeededWords, words_of
from dokimon.core.expressions import expression

_FOLDER = Path(__file__).parents[2] / "diagnoses"


class RemedyTemplate(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What to do: a sentence and perhaps a command. `{name}` stands for a group of the pattern."""

    say: str
    command: str | None = None


class Cause(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """One cause of failures.

    `lines` are patterns of output lines that show it, `exits` exit statuses that do so alone. `cause` and the steps may
    hold `{name}` for the groups of the pattern that matched; `given` are groups that the cause itself knows; `{below}` is
    what the first group of the pattern `below` finds in the `below_lines` under the one that shows it. Of causes that the
    same line shows, the highest `rank` counts; `look` names what Dokimon itself looks up for it (who holds a port, where a
    command is); with `look_alone`, what it finds takes the place of the steps. `innermost` tells the last of the lines
    that show it, where an exception stands above the one that it came from. One of `last_resort` is told where
    no other shows. `shown` and `not_shown` are samples of real
    output: a test compares the patterns with them.
    """

    cause: str
    rank: int = 50
    lines: list[str] = []
    exits: list[int] = []
    look: str | None = None
    look_alone: bool = False
    innermost: bool = False
    last_resort: bool = False
    given: dict[str, str] = {}
    below: str = ""
    below_lines: int = 12
    steps: list[RemedyTemplate] = []
    shown: list[str] = []
    not_shown: list[str] = []


@cache
def known_causes() -> dict[str, Cause]:
    """Return all causes that ship with Dokimon, by name."""
    found: dict[str, Cause] = {}
    for path in sorted(_FOLDER.glob("*.toml")):
        found |= msgspec.convert(tomllib.loads(path.read_text("utf-8")), dict[str, Cause])
    return found


class CausePattern(NamedTuple):
    """A pattern of a line that shows a cause: its name, its rank, what the line must hold, and the pattern itself."""

    cause: str
    rank: int
    words: NeededWords
    pattern: re.Pattern[str]


@cache
def cause_patterns() -> tuple[CausePattern, ...]:
    """Return the patterns of all causes, compiled when they are first used."""
    return tuple(
        CausePattern(name, cause.rank, words_of(pattern), expression(pattern))
        for name, cause in known_causes().items()
        for pattern in cause.lines
    )
