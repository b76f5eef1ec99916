"""Lines by which a run tells of trouble, of whatever language; what is known of them is data (`trouble.toml`)."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from functools import cache
from pathlib import Path

import msgspec

from dokimon.core.text import clean, without_part

_DATA = Path(__file__).with_name("trouble.toml")
_LONGEST = 600
"""Characters of a line that are looked at."""

_AGAIN_AND_AGAIN = 4
"""So often the same line is no single mishap."""


class Kind(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A kind of trouble: what a line of it says of the run, patterns of which one is found, samples both ways."""

    name: str
    says: str
    patterns: list[str]
    shown: list[str]
    not_shown: list[str]


class _Harmless(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    patterns: list[str]
    lower: str


class _Known(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    kind: list[Kind]
    harmless: _Harmless


class Trouble(msgspec.Struct, frozen=True, kw_only=True):
    """What a run told of: the kind of it, the line (cleaned), how often such a line came."""

    kind: str
    says: str
    line: str
    times: int = 1
    is_warning: bool = False
    """Whether the line itself calls it no more than a warning."""

    @property
    def again_and_again(self) -> bool:
        """Whether it came so often that it is no single mishap."""
        return self.times >= _AGAIN_AND_AGAIN


@cache
def _known() -> _Known:
    import tomllib

    return msgspec.convert(tomllib.loads(_DATA.read_text("utf-8")), _Known)


def kinds() -> Sequence[Kind]:
    """Return all kinds, in the order in which they are tried."""
    return _known().kind


@cache
def _compiled() -> tuple[tuple[tuple[Kind, re.Pattern[str]], ...], re.Pattern[str], re.Pattern[str]]:
    by_kind = tuple((each, re.compile("|".join(f"(?:{_local(one)})" for one in each.patterns))) for each in kinds())
    harmless = _known().harmless
    return by_kind, re.compile("|".join(f"(?:{_local(one)})" for one in harmless.patterns)), re.compile(harmless.lower)


def _local(pattern: str) -> str:
    """Return a pattern whose flag holds for itself alone, so that it can stand beside others."""
    return f"(?i:{pattern[4:]})" if pattern.startswith("(?i)") else pattern


def kind_of(line: str) -> Kind | None:
    """Return which kind of trouble a line tells of; None where it tells of none."""
    looked = line[:_LONGEST]
    by_kind, harmless, lower = _compiled()
    said = without_part(looked)  # what starts several parts says first which one speaks
    ways = (looked,) if said == looked else (looked, said)
    kind = next((each for each, pattern in by_kind if any(pattern.search(way) for way in ways)), None)
    if kind is None or harmless.search(looked):
        return None
    if kind.name not in ("uncaught", "unreached", "ended") and _is_lower(looked, lower):
        return None
    return kind


_LEVEL_OF_ERROR = re.compile(r"\b(?:ERROR|FATAL|CRITICAL|SEVERE)\b|[✖✗✘]|^\W*(?:error|fatal)\b")


def _is_lower(line: str, lower: re.Pattern[str]) -> bool:
    """Whether a line names a lower level, before any level of an error."""
    found = lower.search(line)
    return found is not None and not _LEVEL_OF_ERROR.search(line[: found.start()])


def troubles_in(lines: Sequence[str]) -> tuple[Trouble, ...]:
    """Return what the lines tell of, in their order; lines that differ in numbers alone count as the same.

    Of a stack that is printed over several lines, the one that names the error stands for all.
    """
    first: dict[str, tuple[Kind, str]] = {}
    times: Counter[str] = Counter()
    for line in _without_stacks(lines):
        if kind := kind_of(line):
            same = re.sub(r"\d+", "#", line.strip())
            first.setdefault(same, (kind, line))
            times[same] += 1
    return tuple(
        Trouble(
            kind=kind.name,
            says=kind.says,
            line=clean(line.strip(), 240),
            times=times[same],
            is_warning=kind.name == "unreached" and bool(_compiled()[2].search(line[:_LONGEST])),
        )
        for same, (kind, line) in first.items()
    )


_FRAME = re.compile(r"^\s+at .+(?::\d+:\d+\)?|\(<anonymous>\)|\(native\))$")


def _named(line: str) -> str:
    """Return a line under which a stack stands, so that it is told for an error; not what is harmless, or a warning."""
    _, harmless, lower = _compiled()
    looked = line[:_LONGEST]
    if not line.strip() or kind_of(line) or harmless.search(looked) or _is_lower(looked, lower):
        return line
    return f"Uncaught {line.strip()}"


_STACK_BEGINS = re.compile(
    r"^\s*Traceback \(most recent call last\):|^(?:Exception (?:occurred|ignored)|Task exception) "
)
_INSIDE_STACK = re.compile(r"^\s|^(?:Traceback |During handling|The above exception|-{10,})|^$")
_GONE = re.compile(
    r"^(?:\w+\.)*(?:ConnectionResetError|BrokenPipeError|ConnectionAbortedError|IncompleteReadError|ClientDisconnect"
    r"|SSL\w*Error)\b"
)
"""The one who asked has hung up, or spoke plainly where TLS is spoken: that is what a look does, and no error of the run."""


def _without_stacks(lines: Sequence[str]) -> list[str]:
    """Return the lines, each stack in place of the line that names its error; one of a hung-up connection is left out."""
    kept: list[str] = []
    inside = False
    for line in lines:
        if kept and not inside and _FRAME.search(line):  # of JavaScript, below its error
            if not _FRAME.search(kept[-1]):
                kept[-1] = _named(kept[-1])
            continue
        if _GONE.search(line):  # also outside: two threads may print theirs at once, one within the other
            inside = False
        elif _STACK_BEGINS.search(line):
            inside = True
        elif inside and not _INSIDE_STACK.search(line):
            inside = False
            kept.append(line if kind_of(line) else f"Uncaught {line}")
        elif not inside:
            kept.append(line)
    return kept if not inside else [*kept, "Traceback (most recent call last):"]
