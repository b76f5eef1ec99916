"""What a run prints and how it ends: lines that must or must not appear, their order, the whole output, the exit status."""

from __future__ import annotations

import re
import time

from dokimon.core.checks.patterns import PatternFault, in_words, search
from dokimon.core.checks.scene import Scene
from dokimon.core.checks.wanted import Pattern, Text, Texts, Wanted, texts
from dokimon.core.measures import seconds
from dokimon.core.report.model import Check, CheckVerdict
from dokimon.core.text import clean, counted

_SERVER_SECONDS = "5s"
_LOOK_EVERY = 0.05

# What languages print when nobody caught an error.
_UNCAUGHT = re.compile(
    r"^Traceback \(most recent call last\):|^Exception in thread \"|^Unhandled exception[.:]|^thread '.*' panicked at"
    r"|^panic: |^(?:PHP )?Fatal error: |Unhandled(?:PromiseRejection|Rejection)|Segmentation fault",
    re.MULTILINE,
)


class Console(Wanted, frozen=True, kw_only=True):
    """`prints` and `never`: texts or patterns that must or must not appear; `in_order`, one after the other.

    `output` is the whole output, `exit` the status that it ends with. A server may take `within` to print; what it must
    `never` print is watched for so long, where that is given.
    """

    prints: Texts = []
    never: Texts = []
    in_order: bool = False
    output: Text | None = None
    exit: int | None = None
    within: str | None = None


def title(wanted: Console) -> str:
    """Return what the check is called where nobody named it."""
    words = ["prints"] if texts(wanted.prints) or wanted.output is not None else []
    words += ["never prints"] if texts(wanted.never) else []
    return " and ".join([*words, *(["exit"] if wanted.exit is not None else [])]) or "output"


def check(wanted: Console, scene: Scene) -> list[Check]:
    """Look at what has been printed; a server that still runs may take its time. The exit is looked at by `ending`."""
    deadline = time.monotonic() + (0 if scene.ended else seconds(wanted.within or _SERVER_SECONDS))
    while True:
        text = scene.output.text()
        checks = _prints(wanted, text, scene)
        never = _never(wanted, text)
        missing = any(each.verdict == "failed" for each in checks)
        appeared = any(each.verdict == "failed" for each in never)
        watching = bool(never) and wanted.within is not None and not appeared
        over = time.monotonic() >= deadline or scene.halt.is_set()
        if over or appeared or not (missing or watching):
            return [*checks, *never]
        known = scene.output.count
        while scene.output.count == known and time.monotonic() < deadline and not scene.halt.is_set():
            time.sleep(_LOOK_EVERY)


def ending(wanted: Console | None, status: int | None, spent: float) -> list[Check]:
    """Hold the exit status against the one that is wanted, 0 where nothing is said."""
    from dokimon.core.launching.tree import how_ended

    expected = wanted.exit if wanted and wanted.exit is not None else 0
    verdict: CheckVerdict = "passed" if status == expected else "failed"
    return [Check("ends", verdict, f"exit status {expected}", how_ended(status), round(spent, 3))]


def unasked(scene: Scene, *, may_be_silent: bool = False) -> list[Check]:
    """What one looks at in a program's output without a word: is there any, and is there no uncaught error in it?

    One that somebody wrote down as a program `may_be_silent`.
    """
    text = scene.output.text()
    found = _UNCAUGHT.search(text)
    if found:
        line = text[found.start() :].partition("\n")[0]
        return [Check("output", "failed", "no uncaught error", clean(f"“{line}”"))]
    lines = sum(1 for line in text.splitlines() if line.strip())
    if not lines and may_be_silent:
        return [Check("output", "passed", "no uncaught error", "nothing was printed")]
    if not lines:
        return [Check("output", "unsure", "something", "nothing was printed, so nobody can tell what it did")]
    return [Check("output", "passed", "something, and no uncaught error", counted(lines, "line"))]


def _prints(wanted: Console, text: str, scene: Scene) -> list[Check]:
    checks: list[Check] = []
    position = 0
    for given in texts(wanted.prints):
        each = given if isinstance(given, Pattern) else scene.filled(given)
        expected = clean(in_words(each) + (", after what stands above" if wanted.in_order and checks else ""))
        try:
            found = _place(each, text, position if wanted.in_order else 0)
        except PatternFault as fault:
            checks.append(Check("prints", "unsure", expected, clean(str(fault))))
            continue
        line = scene.output.line_with(each) if found is None and isinstance(each, str) and not wanted.in_order else None
        if line is not None:  # it stands in the middle of more than is looked into
            checks.append(Check("prints", "passed", expected, clean(f"“{line}”")))
            continue
        if found is None:
            earlier = wanted.in_order and _place(each, text, 0) is not None
            printed = counted(scene.output.count, "line")
            seen = "only before it" if earlier else f"not in the {printed} that it printed"
            checks.append(Check("prints", "failed", expected, seen))
            continue
        start, position = found
        begin, end = text.rfind("\n", 0, start) + 1, text.find("\n", position)
        line = text[begin : end if end >= 0 else None]
        checks.append(Check("prints", "passed", expected, clean(f"“{clean(line, 200)}”")))
    if wanted.output is not None:
        checks.append(_whole(wanted.output, text))
    return checks


def _place(wanted: Text, text: str, after: int) -> tuple[int, int] | None:
    """Return where in `text` the first occurrence begins and ends."""
    if not isinstance(wanted, Pattern):
        start = text.find(wanted, after)
        return (start, start + len(wanted)) if start >= 0 else None
    found = search(wanted.pattern, text[after:])
    if found is None:
        return None
    start = text.index(found[0], after) if found[0] else after
    return start, start + len(found[0])


def _whole(wanted: Text, text: str) -> Check:
    printed = text.strip("\n")
    if isinstance(wanted, Pattern):
        expected = f"the whole is a match of {wanted.pattern}"
        try:
            holds = search(rf"\A(?:{wanted.pattern})\Z", printed) is not None
        except PatternFault as fault:
            return Check("output", "unsure", clean(expected), clean(str(fault)))
        return Check("output", "passed" if holds else "failed", clean(expected), clean(f"“{printed}”"))
    lines, ours = printed.split("\n"), wanted.strip("\n").split("\n")
    if lines == ours:
        return Check("output", "passed", "this very output", f"{len(lines)} lines, each as it should be")
    number = next((i for i, (a, b) in enumerate(zip(lines, ours, strict=False)) if a != b), min(len(lines), len(ours)))
    expected, seen = (f"“{each[number]}”" if number < len(each) else "its end" for each in (ours, lines))
    return Check("output", "failed", clean(f"line {number + 1}: {expected}"), clean(f"line {number + 1}: {seen}"))


def _never(wanted: Console, text: str) -> list[Check]:
    checks = []
    for each in texts(wanted.never):
        expected = clean(f"{in_words(each)} nowhere")
        try:
            found = _place(each, text, 0)
        except PatternFault as fault:
            checks.append(Check("never prints", "unsure", expected, clean(str(fault))))
            continue
        if found is None:
            checks.append(Check("never prints", "passed", expected, clean(f"{in_words(each)} is not there")))
            continue
        line = text[text.rfind("\n", 0, found[0]) + 1 :].partition("\n")[0]
        checks.append(Check("never prints", "failed", expected, clean(f"“{line}”")))
    return checks
