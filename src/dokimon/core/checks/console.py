"""What a run prints and how it ends: lines that must or must not appear, their order, the whole output, the exit status."""

from __future__ import annotations

import re
import time
from collections.abc import Collection
from typing import ClassVar

import msgspec

from dokimon.core.checks.context import CheckContext
from dokimon.core.checks.spec import CheckSpec, Pattern, Text, Texts, texts
from dokimon.core.checks.texts import in_words
from dokimon.core.expressions import expression
from dokimon.core.measures import seconds
from dokimon.core.patterns import PatternFault, search
from dokimon.core.processes.exit_status import how_ended
from dokimon.core.report.model import Check, CheckVerdict
from dokimon.core.text import clean, counted

_SERVER_SECONDS = "5s"
_LOOK_EVERY = 0.25
"""Seconds between two looks at whether somebody asked to stop, while nothing is printed."""

# What languages print for an uncaught error.
_UNCAUGHT = expression(
    r"^Traceback \(most recent call last\):|^Exception in thread \"|^Unhandled exception[.:]|^thread '.*' panicked at"
    r"|^panic: |^(?:PHP )?Fatal error: |Unhandled(?:PromiseRejection|Rejection)|Segmentation fault",
    re.MULTILINE,
)


class Console(CheckSpec, frozen=True, kw_only=True):
    """`prints` and `never`: texts or patterns that must or must not appear; `in_order`, one after the other.

    `output` is the whole output, `exit` the status that it ends with. A server may take `within` to print; what it must
    `never` print is watched for so long, where that is given.
    """

    kind_name: ClassVar[str] = "console"

    prints: Texts = []
    never: Texts = []
    in_order: bool = False
    output: Text | None = None
    exit: int | None = None
    within: str | None = None

    @property
    def default_name(self) -> str:
        """The name of the check where the project gives it none."""
        words = ["prints"] if texts(self.prints) or self.output is not None else []
        words += ["never prints"] if texts(self.never) else []
        return " and ".join([*words, *(["exit"] if self.exit is not None else [])]) or "output"

    @property
    def expected_exit(self) -> int | None:
        """The exit status that the run must end with."""
        return self.exit

    def look(self, context: CheckContext) -> list[Check]:
        """Look at the run, and return what was seen."""
        return _look(self, context)


def _look(spec: Console, context: CheckContext) -> list[Check]:
    """Look at what has been printed; a server that still runs may take its time. The exit is looked at by `ending`."""
    deadline = time.monotonic() + (0 if context.ended else seconds(spec.within or _SERVER_SECONDS))
    while True:
        text = context.output.text()
        checks = _prints(spec, text, context)
        never = _never(spec, text, context)
        missing = any(each.verdict != "passed" for each in checks)
        appeared = any(each.verdict == "failed" for each in never)
        watching = bool(never) and spec.within is not None and not appeared
        over = time.monotonic() >= deadline or context.halt.is_set()
        if over or appeared or not (missing or watching):
            return [*checks, *never]
        known = context.output.count
        while context.output.count == known and time.monotonic() < deadline and not context.halt.is_set():
            context.output.wait_for_more(known, min(_LOOK_EVERY, deadline - time.monotonic()))


def ending(expected: int, status: int | None, spent: float) -> list[Check]:
    """Compare the exit status with the one that is expected."""
    verdict: CheckVerdict = "passed" if status == expected else "failed"
    return [
        Check(
            name="ends",
            verdict=verdict,
            expected=f"exit status {expected}",
            seen=how_ended(status),
            seconds=round(spent, 3),
        )
    ]


_NOT_OWN = expression(
    r"^> .+|^\$ \S.*|^yarn (?:run|install) v\d.*|^Done in [\d.]+ ?m?s.*|^make(?:\[\d+\])?: .*|^\+ .+"
    r"|^\s*(?:Compiling|Finished|Running|Downloading|Downloaded|Blocking|Updating|Locking|Fresh) .+"
    r"|^info Visit https://yarnpkg.*|^Compiling \d+ files? \(.*|^Generated \w+ app$|^==> \w+$"
)
"""What package managers, builders and shells print of themselves around a program."""


_RUSTC = expression(r"(?m)^ *--> \S+:\d+:\d+$")
_OF_RUSTC = expression(r"(?:warning|note|help|error)(?:\[\w+\])?: .+|--> .+|(?:\d+ *)?\|.*|= (?:note|help): .+|\.\.\.")
"""What a compiler of Rust says of the code, where it says anything (`cargo run` says it anew each time)."""


def unasked(context: CheckContext, *, may_be_silent: bool = False, echoes: Collection[str] = ()) -> list[Check]:
    """The default check of a program's output: is there any of its own, and is there no uncaught error in it?

    One that somebody wrote down as a program `may_be_silent`. `echoes` are lines that what starts it prints of its commands.
    """
    text = context.output.text()
    found = _UNCAUGHT.search(text)
    if found:
        line = text[found.start() :].partition("\n")[0]
        return [Check(name="output", verdict="failed", expected="no uncaught error", seen=clean(f"“{line}”"))]
    every = [line.strip() for line in text.splitlines() if line.strip()]
    quotes = bool(_RUSTC.search(text))
    lines = sum(
        1
        for line in every
        if not (line in echoes or _NOT_OWN.fullmatch(line) or (quotes and _OF_RUSTC.fullmatch(line)))
    )
    if not lines and may_be_silent:
        return [Check(name="output", verdict="passed", expected="no uncaught error", seen="nothing was printed")]
    if not lines:
        return [
            Check(
                name="output",
                verdict="unsure",
                expected="something",
                seen="nothing of its own was printed, so what it did is not known",
            )
        ]
    if context.ended and every and _IS_UP.search(every[-1]):
        seen = f"it says “{every[-1]}”, and has ended"
        return [Check(name="output", verdict="unsure", expected="what says that it is up goes on", seen=clean(seen))]
    return [
        Check(name="output", verdict="passed", expected="something, and no uncaught error", seen=counted(lines, "line"))
    ]


_IS_UP = expression(
    r"(?i)\b(?:worker|scheduler|bot|daemon|server|service|consumer|listener|collector)\b.{0,40}\b(?:started|running|up|online|listening)\b"
    r"|\blistening (?:on|at)\b|\bwaiting for (?:jobs|messages|tasks|connections|requests)\b"
)
"""Words of what is to go on from there."""


def _prints(spec: Console, text: str, context: CheckContext) -> list[Check]:
    checks: list[Check] = []
    position = 0
    for given in texts(spec.prints):
        each = given if isinstance(given, Pattern) else context.filled(given)
        expected = clean(in_words(each) + (", after what is listed above" if spec.in_order and checks else ""))
        try:
            found = _place(each, text, position if spec.in_order else 0)
        except PatternFault as fault:
            checks.append(Check(name="prints", verdict="unsure", expected=expected, seen=clean(str(fault))))
            continue
        plain = isinstance(each, str) and not spec.in_order
        line = context.output.line_with(each) if found is None and isinstance(each, str) and plain else None
        if line is not None:  # it is in the part of a long output that is not searched
            checks.append(Check(name="prints", verdict="passed", expected=expected, seen=clean(f"“{line}”")))
            continue
        if found is None:
            earlier = spec.in_order and _place(each, text, 0) is not None
            printed = counted(context.output.count, "line")
            seen = "only before it" if earlier else f"not in the {printed} that it printed"
            unseen = context.output.unseen(plain=plain)
            verdict: CheckVerdict = "unsure" if unseen else "failed"
            checks.append(Check(name="prints", verdict=verdict, expected=expected, seen=clean(unseen or seen)))
            continue
        start, position = found
        begin, end = text.rfind("\n", 0, start) + 1, text.find("\n", position)
        line = text[begin : end if end >= 0 else None]
        checks.append(Check(name="prints", verdict="passed", expected=expected, seen=clean(f"“{clean(line, 200)}”")))
    if spec.output is not None:
        unseen = context.output.unseen(plain=False)
        whole = _whole(spec.output, text)
        checks.append(msgspec.structs.replace(whole, verdict="unsure", seen=unseen) if unseen else whole)
    return checks


def _place(spec: Text, text: str, after: int) -> tuple[int, int] | None:
    """Return where in `text` the first occurrence begins and ends."""
    if not isinstance(spec, Pattern):
        start = text.find(spec, after)
        return (start, start + len(spec)) if start >= 0 else None
    found = search(spec.pattern, text[after:])
    if found is None:
        return None
    start = text.index(found[0], after) if found[0] else after
    return start, start + len(found[0])


def _whole(spec: Text, text: str) -> Check:
    printed = text.strip("\n")
    if isinstance(spec, Pattern):
        expected = f"the whole is a match of {spec.pattern}"
        try:
            holds = search(rf"\A(?:{spec.pattern})\Z", printed) is not None
        except PatternFault as fault:
            return Check(name="output", verdict="unsure", expected=clean(expected), seen=clean(str(fault)))
        return Check(
            name="output", verdict="passed" if holds else "failed", expected=clean(expected), seen=clean(f"“{printed}”")
        )
    lines, ours = printed.split("\n"), spec.strip("\n").split("\n")
    if lines == ours:
        return Check(
            name="output",
            verdict="passed",
            expected="this very output",
            seen=f"{len(lines)} lines, each as it should be",
        )
    number = next((i for i, (a, b) in enumerate(zip(lines, ours, strict=False)) if a != b), min(len(lines), len(ours)))
    expected, seen = (f"“{each[number]}”" if number < len(each) else "its end" for each in (ours, lines))
    return Check(
        name="output",
        verdict="failed",
        expected=clean(f"line {number + 1}: {expected}"),
        seen=clean(f"line {number + 1}: {seen}"),
    )


def _never(spec: Console, text: str, context: CheckContext) -> list[Check]:
    checks = []
    for each in texts(spec.never):
        expected = clean(f"{in_words(each)} nowhere")
        try:
            found = _place(each, text, 0)
        except PatternFault as fault:
            checks.append(Check(name="never prints", verdict="unsure", expected=expected, seen=clean(str(fault))))
            continue
        line = context.output.line_with(each) if found is None and isinstance(each, str) else None
        if line is not None:
            checks.append(Check(name="never prints", verdict="failed", expected=expected, seen=clean(f"“{line}”")))
            continue
        if found is None:
            unseen = context.output.unseen(plain=isinstance(each, str))
            seen = clean(unseen or f"{in_words(each)} is not there")
            verdict: CheckVerdict = "unsure" if unseen else "passed"
            checks.append(Check(name="never prints", verdict=verdict, expected=expected, seen=seen))
            continue
        line = text[text.rfind("\n", 0, found[0]) + 1 :].partition("\n")[0]
        checks.append(Check(name="never prints", verdict="failed", expected=expected, seen=clean(f"“{line}”")))
    return checks
