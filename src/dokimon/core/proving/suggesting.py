"""What a declaration would be by what was proven: the versions that passed, and those beside them that did not fail."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence

import msgspec

from dokimon.core.declarations.requirement import Requirement
from dokimon.core.expressions import expression
from dokimon.core.proving.versions_here import is_in, version_key
from dokimon.core.report.model import Suggestion, Tried
from dokimon.core.text import clean
from dokimon.core.versions import compiled
from dokimon.core.versions.common import in_common
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.orders import dotted
from dokimon.core.versions.sets import NONE, Cut, VersionSet, before, between, describe
from dokimon.core.versions.writing import written

_UNFINISHED = expression(r"[-.\d](?:a|b|rc|alpha|beta|dev|pre|preview|nightly|canary|ea|SNAPSHOT)\b|\d(?:a|b|rc)\d")

_PIN = expression(r"v?\d+(?:\.\d+)*")


class Proven(msgspec.Struct, frozen=True):
    """The newest versions that passed without one between them that failed; all that failed, and those next to these."""

    passed: tuple[str, ...]
    failed: tuple[str, ...]
    below: str | None
    above: str | None


def proven_by(tried: Sequence[Tried]) -> Proven | None:
    """Return what is proven by what was tried of one tool; None where nothing passed. What stayed open proves nothing."""
    known = sorted(
        (each for each in tried if each.verdict in ("passed", "failed")), key=lambda each: version_key(each.version)
    )
    verdicts = [each.verdict == "passed" for each in known]
    if True not in verdicts:
        return None
    end = len(verdicts) - 1 - verdicts[::-1].index(True)
    begin = end
    while begin and verdicts[begin - 1]:
        begin -= 1
    return Proven(
        passed=tuple(each.version for each in known[begin : end + 1]),
        failed=tuple(each.version for each in known if each.verdict == "failed"),
        below=known[begin - 1].version if begin else None,
        above=known[end + 1].version if end + 1 < len(known) else None,
    )


def suggestion(need: Requirement, proven: Proven, lines: Sequence[str]) -> Suggestion | None:
    """Return what the declaration, in a file of these lines, would be by what was proven.

    None where it is true of all that was tried.
    """
    accepted = in_common(need.constraint) if need.constraint else None
    if accepted is None:
        return None
    bare = need.wanted.strip()
    if _PIN.fullmatch(bare) and need.language not in ("go", "cmake", "swift"):
        return _pin(need, bare, proven, lines)
    right = _right(accepted, proven)
    if right == accepted or not right:
        return None
    if _UNFINISHED.search(right.intervals[0].low.label):
        says = f"{need.tool} {describe(accepted)} is declared, but only {proven.passed[0]} passes, which is not released yet"
        return _placed(need, says, (), lines)
    says = f"{need.tool} {describe(accepted)} is declared; by what was proven it is {describe(right)}"
    return _placed(need, says, _texts(need, right, proven), lines)


def _placed(need: Requirement, says: str, texts: Iterable[tuple[str, str]], lines: Sequence[str]) -> Suggestion:
    """Return a suggestion with the first change (what stands there, what would) whose place in the file is certain."""
    told = Suggestion(tool=need.tool, says=clean(says), file=need.source.file, line=need.source.line)
    for old, new in texts:
        place = _place(need, old, lines)
        if place:
            return msgspec.structs.replace(told, line=place, before=old, after=new)
    return told


_FURTHEST = 12
"""Lines of a table in which a key may stand below its head."""


def _place(need: Requirement, text: str, lines: Sequence[str]) -> int | None:
    """Return the line (from 1) that has the text once: that of the declaration, or one of the table that begins there."""
    first = need.source.line
    for number, line in enumerate(lines[first - 1 : first - 1 + _FURTHEST], first):
        if number > first and (line.lstrip().startswith("[") or not need.source.file.endswith(".toml")):
            return None
        if text in line:
            return number if line.count(text) == 1 else None
    return None


def _right(accepted: VersionSet, proven: Proven) -> VersionSet:
    """Return the declared versions with the ends moved to what was proven; as they are where nothing speaks against them."""
    first, last = _at(proven.passed[0]), _at(proven.passed[-1])
    low, high = accepted.intervals[0].low, accepted.intervals[-1].high
    wider = NONE
    failed = [_at(each) for each in proven.failed if is_in(each, accepted)]
    if any(each < first for each in failed):
        low = first
    elif first < low:
        wider, low = between(first, low), first
    if proven.above and any(last < each for each in failed):
        line = _at(_line(proven.above))
        high = line if last < line else _at(proven.above)
    elif not last < high:
        end = _at(_next(_line(proven.passed[-1])))
        wider, high = wider | between(high, end), end
    return (accepted | wider) & between(low, high)


def _at(version: str) -> Cut:
    return before(dotted.DOTTED.key(version), version)


def _line(version: str) -> str:
    """Return the numbers that a bound names: the first, and the second where the first alone says little."""
    first, _, rest = version.partition(".")
    second = rest.partition(".")[0]
    return first if int(re.sub(r"\D", "", first) or 0) >= 5 or not second else f"{first}.{second}"


def _next(line: str) -> str:
    front, dot, last = line.rpartition(".")
    return f"{front}{dot}{int(re.sub(r'[^0-9]', '', last) or 0) + 1}"


def _texts(need: Requirement, right: VersionSet, proven: Proven) -> Iterator[tuple[str, str]]:
    """Yield what may stand in the file, and what would stand there."""
    new = written(need.language, right)
    if new is None or not _means(need, new, proven):
        return
    yield need.wanted, new
    bare = need.wanted.removeprefix(">=").strip()
    if bare != need.wanted and right.intervals[-1].high.rank:
        yield bare, right.intervals[0].low.label  # the file names the oldest version and nothing else


def _means(need: Requirement, new: str, proven: Proven) -> bool:
    """Whether the new text accepts what passed, and not what failed."""
    try:
        constraint = compiled(need.language, new)
        return all(map(constraint.admits, proven.passed)) and not any(map(constraint.admits, proven.failed))
    except VersionFault:
        return False


def _pin(need: Requirement, bare: str, proven: Proven, lines: Sequence[str]) -> Suggestion | None:
    """Return the newest version that passed in place of one that is pinned and failed."""
    admits = need.constraint.admits if need.constraint else lambda version: True
    failed = [each for each in proven.failed if admits(each)]
    if not failed or any(map(admits, proven.passed)):
        return None
    numbers = proven.passed[-1].split(".")[: bare.count(".") + 1]
    after = ("v" if bare.startswith("v") else "") + ".".join(numbers)
    says = f"{need.tool} {bare} is pinned, and {failed[0]} fails; {proven.passed[-1]} passes"
    return _placed(need, says, [(bare, after)], lines)


def undeclared(tool: str, proven: Proven) -> Suggestion:
    """Return what would be declared of a tool that no file narrows."""
    least = f">={proven.passed[0]}" if proven.below else None
    below = f"<{_line(proven.above)}" if proven.above else None
    wanted = ", ".join(filter(None, (least, below)))
    if not wanted:
        return Suggestion(tool=tool, says=f"of {tool} nothing is declared, and every version that is here passes")
    says = f"of {tool} nothing is declared; by what was proven it is {wanted}: a need for dokimon.toml"
    return Suggestion(tool=tool, says=says, after=f'[[need]]\ntool = "{tool}"\nversion = "{wanted}"\n')
