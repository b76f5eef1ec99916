"""From what a failed run or step printed to the likely cause, the line that shows it, and what to do.

What is known of failures is data: `dokimon/diagnoses/*.toml`. Overlaps are settled by the ranks in it, not by the order of
files: of two causes that one line shows, the one of the higher rank is told.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from itertools import pairwise
from pathlib import Path
from typing import NamedTuple

from msgspec.structs import replace

from dokimon.core.diagnosis.causes import Cause, CausePattern, cause_patterns, known_causes
from dokimon.core.diagnosis.frames import frame_of
from dokimon.core.expressions import expression
from dokimon.core.report.model import Diagnosis, Remedy
from dokimon.core.text import clean, without_part
from dokimon.core.words import filled, filled_for_shell, names_in

_VAGUE = 30
"""The rank up to which a cause says less than the exception beside it."""

_MOST = 2
"""The most causes that are shown: a reader wants the likely one, and perhaps a second."""


Look = Callable[[Mapping[str, str]], Sequence[Remedy]]
"""Looks up what is known here about a cause: the groups of the pattern in, remedies out."""


def diagnose(
    lines: Iterable[str],
    exit_status: int | None,
    looks: Mapping[str, Look] | None = None,
    *,
    went_on: bool = False,
    root: Path | None = None,
) -> tuple[Diagnosis, ...]:
    """Return the likely causes of a failure, the likeliest first; none where nothing that is known shows.

    `lines` are what was printed, cleaned; of a run that `went_on` (a check of it failed) only an exception says why.
    `looks` are ways to look up more, by the names that the data uses. Below `root` the place in the project's code is
    looked for.
    """
    kept = list(lines)
    shown = _shown(kept)
    surest = max((each.rank for each in shown.values()), default=0)
    shown |= _by_exit_status(exit_status, surest, kept)
    code = _lines_of_code(kept)
    spoken = [line for number, line in enumerate(kept) if number not in code]
    thrown = telling_line(spoken, exceptions_alone=went_on or bool(shown)) if surest <= _VAGUE else None
    if not shown:
        said = thrown or (_last_line(kept) if exit_status and not went_on else None)
        return (_not_known(said, kept, root),) if said else ()
    causes = known_causes()
    others = {name: each for name, each in shown.items() if not causes[name].last_resort}
    ordered = sorted((others or shown).items(), key=lambda item: (-item[1].rank, item[1].number))
    first = (_not_known(thrown, kept, root),) if thrown and ordered[0][1].line != thrown else ()
    return first + tuple(
        _with_place(_told(name, causes[name], each, kept, looks or {}), kept, each.number, root)
        for name, each in ordered[: _MOST - len(first)]
    )


class _Shown(NamedTuple):
    """Where a cause shows: its rank, the number of the line (from 0), the line itself, the groups of its pattern."""

    rank: int
    number: int
    line: str | None
    groups: Mapping[str, str]


def _shown(lines: Sequence[str]) -> dict[str, _Shown]:
    """Return the causes that the lines show, by name: of the lines of one cause the first, or one that names more."""
    best: dict[str, _Shown] = {}
    causes = known_causes()
    text = "\n".join(lines)
    small = text.lower()
    likely = [each for each in cause_patterns() if each.words.may_be_in(text, small)]
    code = _lines_of_code(lines)
    for number, line in enumerate(lines):
        for name, groups in _of_line(line, likely) if number not in code else ():
            says_more = name in best and not causes[name].below and len(groups) > len(best[name].groups)
            if name not in best or says_more or causes[name].innermost:
                best[name] = _Shown(causes[name].rank, number, line, groups)
    return best


def _by_exit_status(status: int | None, surest: int, lines: Sequence[str]) -> dict[str, _Shown]:
    """Return the causes that an exit status shows by itself: it says little where a line says more."""
    found = {name: each.rank for name, each in known_causes().items() if status in each.exits and each.rank > surest}
    said = telling_line(lines) if found else None
    return {name: _Shown(rank, _number_of(said, lines), said, {}) for name, rank in found.items()}


def _not_known(said: str, lines: Sequence[str], root: Path | None) -> Diagnosis:
    found = Diagnosis(name="not-known", cause="not known; this line says most", line=clean(said, 240))
    return _with_place(found, lines, _number_of(said, lines), root)


def _lines_of_code(lines: Sequence[str]) -> set[int]:
    """Return the numbers of the lines that a runtime quotes from the code: they are not what the run said."""
    below = pairwise(lines)
    return {
        number
        for number, (line, code) in enumerate(below, 1)
        if _OF_NODE.match(line) or (_OF_PYTHON.match(line) and code.startswith("    "))
    }


_OF_NODE = expression(r"^(?:file://)?(?:/|node:)\S+:\d+$")
_OF_PYTHON = expression(r'^\s*File "[^"]+", line \d+, in ')
"""What stands above a line of the code that failed; below a frozen module of Python there is none."""


def _number_of(said: str | None, lines: Sequence[str]) -> int:
    """Return the number of the last line that says this; one beyond them all where there is none."""
    return max((at for at, line in enumerate(lines) if said and line.strip() == said), default=10**9)


def _more(cause: Cause, lines: Sequence[str], number: int, groups: Mapping[str, str]) -> Mapping[str, str]:
    """Return the groups with what the lines below say, each name once, for a cause that says how."""
    if not cause.below:
        return groups
    pattern = re.compile(cause.below)
    matches = [pattern.search(line) for line in lines[number + 1 : number + 1 + cause.below_lines]]
    found = list(dict.fromkeys(next(filter(None, match.groups()), "") for match in matches if match))[:6]
    return {**groups, "below": ", ".join(found)} if found else groups


def _with_place(found: Diagnosis, lines: Sequence[str], number: int, root: Path | None) -> Diagnosis:
    """Return a diagnosis with the place in the project's own code, where the output names one."""
    place = (
        frame_of([without_part(line) for line in lines], number, root)
        if root is not None and number < len(lines)
        else None
    )
    return replace(found, at=clean(place, 160)) if place and place not in (found.line or "") else found


def notice(lines: Iterable[str], looks: Mapping[str, Look]) -> tuple[Diagnosis, ...]:
    """Return the error that a run which passed all the same told of; none where it told of none.

    Such a run goes on without what it lacks: a database that it asks for only later, a part of it that ended.
    """
    spoken = [line for line in lines if _OF_TROUBLE.search(line)]
    found = [each for each in diagnose(spoken, None, looks, went_on=True) if each.line] if spoken else []
    return tuple(found[:1])


_OF_TROUBLE = expression(
    r"(?i)error|exception|fatal|panic|fail|refused|cannot|can't|could not|unable|denied|invalid|missing|not found"
)
"""What lines say that may show a cause: all patterns are only compiled where there is one."""

_LAST_WORDS = expression(
    r"^Caused by: .+|^(?:[\w.]+\.)?\w*(?:Error|Exception|Panic)\b(?: \[\w+\])?: .+|^(?:Uncaught )?\w*Error: .+"
    r"|^Exception in thread .+|^panic: .+|^thread '.+' panicked at .+|^fatal: .+"
    r"|^\S+\.r[bu]:\d+:in .+\(\w[\w:]*\)$|^.+ at \S+\.(?:p[lm]|psgi) line \d+\.?$|^.*\bhttp: panic serving \S+ .+"
    r"|^(?:\[[^\]]*\] )?(?:PHP )?(?:Fatal|Parse) error: .+"
    r"|^configure: error: .+|^Unhandled exception\. .+|^\*\* \((?!EXIT|Mix\b)[A-Z][\w.]+\) .+"
)
"""How an exception ends that nobody caught, in the languages that print one: the last one says why."""

_FIRST_WORDS = expression(
    r"(?i)\b(?:error|fatal|failed|failure|cannot|can't|could not|couldn't|unable to|denied|refused|invalid|missing"
    r"|not found|no such file)\b"
)
_HARMLESS = expression(
    r"(?i)\b(?:0|no) (?:errors?|failures?)\b|warning|deprecat|npm (?:error|ERR!) (?:A complete log|code|errno|path)"
)


def telling_line(lines: Sequence[str], *, exceptions_alone: bool = False) -> str | None:
    """Return the line that says most of why a run failed: the last exception, else the first error, else none."""
    lines = [line for line in lines if line.strip() and not _BANNER.search(line)]
    exceptions = [line for line in lines if _LAST_WORDS.search(without_part(line).strip())]
    if exceptions:
        return exceptions[-1].strip()
    if exceptions_alone:
        return None
    return next((line.strip() for line in lines if _FIRST_WORDS.search(line) and not _HARMLESS.search(line)), None)


def _last_line(lines: Sequence[str]) -> str | None:
    """The last line that is of the run itself: what ends with an error and says no word of one says it there."""
    own = (line.strip() for line in reversed(lines) if not (_BANNER.search(line) or _OF_A_RUNNER.search(line)))
    return next(own, None)


_BANNER = expression(r"^> \S+@\S* [\w:.-]+\s*$|^> \S|^\$ \S|^(?:npm|yarn|pnpm) (?:warn|notice|info)\b")
"""What runs a script says first which script of which package: a name in it says nothing."""

_OF_A_RUNNER = expression(
    r"^(?:make(?:\[\d+\])?: |npm (?:error|ERR!)|error Command failed|error: Recipe|\s*ELIFECYCLE|ERR_PNPM|task: Failed)"
    r"|^\W*$|^Node\.js v\d|^signal: |^exit status \d|^\s*from \S+:\d+|^\s+at |^goroutine \d|^\s+/\S+:\d+"
)
"""What a runner says of the end of what it ran."""


_START_FAULTS = {"ermission denied": "not-executable", "No such file": "command-not-found"}
"""What the system says when a command cannot be started, and the cause that it shows."""


def diagnose_start(command: str, fault: str, looks: Mapping[str, Look]) -> tuple[Diagnosis, ...]:
    """Return why a command could not even be started, from what the system said of it."""
    name = next((name for sign, name in _START_FAULTS.items() if sign in fault), None)
    if name is None:
        return ()
    cause = known_causes()[name]
    shown = _Shown(cause.rank, 0, None, {"command": command, "file": command})
    return (_told(name, cause, shown, (), looks),)


def _of_line(line: str, likely: Sequence[CausePattern]) -> Sequence[tuple[str, Mapping[str, str]]]:
    """Return what a line shows, as it is or without the name of the part that says it."""
    said = without_part(line)
    return list(_shown_by(line, likely)) or (list(_shown_by(said, likely)) if said != line else [])


def _shown_by(line: str, likely: Iterable[CausePattern]) -> Iterable[tuple[str, Mapping[str, str]]]:
    """Return what a line shows: the cause of the highest rank alone."""
    found = []
    small = line.lower()
    for name, rank, words, pattern in likely:
        if words.may_be_in(line, small) and (match := pattern.search(line)):
            found.append((rank, name, {key: value for key, value in match.groupdict().items() if value}))
    return [(name, groups) for _, name, groups in sorted(found, key=lambda each: -each[0])[:1]]


def _told(name: str, cause: Cause, shown: _Shown, lines: Sequence[str], looks: Mapping[str, Look]) -> Diagnosis:
    line = shown.line
    groups = {**cause.given, **_more(cause, lines, shown.number, shown.groups)}
    looked = looks[cause.look](groups) if cause.look and cause.look in looks else ()
    steps = [
        Remedy(
            _filled(step.say, groups),
            _command(step.command, groups) if step.command and _is_here(step.command, looks) else None,
        )
        for step in cause.steps
    ]
    return Diagnosis(
        name=name,
        cause=_filled(cause.cause, groups),
        line=clean(line, 240) if line else None,
        remedies=tuple(looked) if looked and cause.look_alone else (*looked, *steps)[:3],
    )


def _command(text: str, groups: Mapping[str, str]) -> str | None:
    """Return a command to copy; None where a value is lacking, or would be an option. What a run prints is untrusted."""
    if any(groups.get(name, "-").startswith("-") for name in names_in(text)):
        return None
    return clean(filled_for_shell(text, groups))


_COMMAND = expression(r"(?:sudo )?([a-z][\w.+-]*)(?= |$)")
_OF_THE_SHELL = frozenset({"export", "set", "ulimit", "cd", "dokimon", "rm", "ls", "env", "sudo", "chmod", "cp", "mv"})


def _is_here(command: str, looks: Mapping[str, Look]) -> bool:
    """Whether the program that a command starts with is on PATH here: each kind of system has its own installer."""
    program = _COMMAND.match(command)
    if program is None or program[1] in _OF_THE_SHELL or "installer" not in looks:
        return True
    return bool(looks["installer"]({"command": program[1]}))


def _lacking(text: str, groups: Mapping[str, str]) -> bool:
    return any(name not in groups for name in names_in(text))


def _filled(text: str, groups: Mapping[str, str]) -> str:
    """Fill the groups in; the words around one that is not there (in brackets) are left out with it."""
    text = re.sub(r"\[([^\[\]]*\{[^\[\]]*)\]", lambda part: "" if _lacking(part[1], groups) else part[1], text)
    return clean(filled(text, groups, missing="it"))
