"""Looking for texts and patterns in what a run shows, in bounded time whatever the pattern."""

from __future__ import annotations

import re

from dokimon.core.checks.wanted import Pattern, Text

SECONDS = 1.0
"""A pattern that needs longer backtracks without end: nobody waits for it."""


class PatternFault(Exception):
    """The pattern cannot be used; the text says why."""


def check_pattern(pattern: str) -> None:
    """Raise `PatternFault` unless `pattern` is a regular expression."""
    try:
        re.compile(pattern)
    except re.error as wrong:
        raise PatternFault(f"{pattern!r} is not a regular expression: {wrong}") from None


def search(pattern: str, text: str) -> tuple[str, str] | None:
    """Return the first match in `text` and its first group (the match itself where it has none).

    Lines are told apart: `^` and `$` are the ends of a line. Raises `PatternFault`, also when it takes too long.
    """
    import regex

    try:
        found = regex.search(pattern, text, flags=regex.MULTILINE, timeout=SECONDS)
    except regex.error as wrong:
        raise PatternFault(f"{pattern!r} is not a regular expression: {wrong}") from None
    except TimeoutError:
        raise PatternFault(f"{pattern!r} was still being looked for after {SECONDS:g} s; make it simpler") from None
    if found is None:
        return None
    group = found[1] if found.re.groups and found[1] is not None else found[0]
    return str(found[0]), str(group)


def find(wanted: Text, text: str) -> str | None:
    """Return the part of `text` that was wanted, or None; raises `PatternFault`."""
    if isinstance(wanted, Pattern):
        found = search(wanted.pattern, text)
        return found[0] if found else None
    return wanted if wanted in text else None


def in_words(wanted: Text) -> str:
    """Return what is wanted as a report says it."""
    return f"a match of {wanted.pattern}" if isinstance(wanted, Pattern) else f"“{wanted}”"
