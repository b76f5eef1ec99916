"""Texts and patterns that somebody wants to find in what a run shows."""

from __future__ import annotations

from dokimon.core.checks.spec import Pattern, Text
from dokimon.core.patterns import search


def find(wanted: Text, text: str) -> str | None:
    """Return the part of `text` that was wanted, or None; raises `PatternFault`."""
    if isinstance(wanted, Pattern):
        found = search(wanted.pattern, text)
        return found[0] if found else None
    return wanted if wanted in text else None


def in_words(wanted: Text) -> str:
    """Return what is wanted as a report says it."""
    return f"a match of {wanted.pattern}" if isinstance(wanted, Pattern) else f"“{wanted}”"
