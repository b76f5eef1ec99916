"""What a line must hold for a pattern to be found in it: most lines hold none of it, and looking for words is quick.

There are hundreds of patterns and, after a failure, hundreds of lines. Compiling all patterns takes longer than many a run.
"""

from __future__ import annotations

import re
from typing import NamedTuple

from dokimon.core.expressions import expression

_SHORTEST = 3
"""Characters of a word that is worth looking for."""


class NeededWords(NamedTuple):
    """Words of which a text must hold one; without `any_of`, any text may do. `any_case` compares small letters."""

    any_of: tuple[str, ...]
    any_case: bool

    def may_be_in(self, text: str, small: str) -> bool:
        """Whether the pattern may be found in a text; `small` is the same in small letters."""
        if not self.any_of:
            return True
        if self.any_case:  # some letters beyond ASCII are small forms of ASCII ones to `re`, and not to `lower`
            return not text.isascii() or any(word in small for word in self.any_of)
        return any(word in text for word in self.any_of)


_ANY_TEXT = NeededWords((), False)
_FLAGS = expression(r"\(\?([aiLmsux]+)\)")
_PLAIN = expression(r"[^\\\[(){|?*.^$+]+")
_TIMES = expression(r"\{\d*,?\d*\}")
_ESCAPED = expression(r"x..|u.{4}|U.{8}|N\{[^}]*\}|\d+|.", re.DOTALL)


def words_of(pattern: str) -> NeededWords:
    """Return what a text must hold for a valid pattern of Python's `re` to be found in it."""
    flags = _FLAGS.match(pattern)
    any_case = flags is not None and "i" in flags[1]
    if flags and "x" in flags[1]:  # what stands there is spaced and commented
        return _ANY_TEXT
    words: list[str] = []
    for pieces in _alternatives(pattern):
        longest = max(pieces, key=len, default="")
        if len(longest) < _SHORTEST:
            return _ANY_TEXT
        words.append(longest.lower() if any_case else longest)
    return NeededWords(tuple(words), any_case)


def _alternatives(pattern: str) -> list[list[str]]:
    """Return, for each alternative of the pattern, the pieces that stand in it as they are, outside of groups."""
    every: list[list[str]] = [[""]]
    at = 0
    while at < len(pattern):
        pieces = every[-1]
        if plain := _PLAIN.match(pattern, at):
            pieces[-1] += plain[0]
            at = plain.end()
            continue
        char = pattern[at]
        if char == "|":
            every.append([""])
        elif char in "?*{":  # the character before it may be missing
            pieces[-1] = pieces[-1][:-1]
            pieces.append("")
            times = _TIMES.match(pattern, at)
            at = times.end() - 1 if times else at
        elif char in ".^$+":
            pieces.append("")
        elif char == "[":
            at = _end_of_class(pattern, at)
            pieces.append("")
        elif char == "(":
            at = _end_of_group(pattern, at)
            pieces.append("")
        elif char == "\\":
            escaped = _ESCAPED.match(pattern, at + 1)
            assert escaped
            if escaped[0].isalnum() or len(escaped[0]) > 1:  # a class, a place, a number of a character
                pieces.append("")
            else:
                pieces[-1] += escaped[0]
            at = escaped.end() - 1
        at += 1
    return every


def _end_of_class(pattern: str, at: int) -> int:
    """Return where the class of characters that begins here ends; `]` may stand first in it."""
    at += 1
    at += pattern[at] == "^"
    at += pattern[at] == "]"
    while pattern[at] != "]":
        at += 2 if pattern[at] == "\\" else 1
    return at


def _end_of_group(pattern: str, at: int) -> int:
    """Return where the group that begins here ends."""
    at += 1
    while pattern[at] != ")":
        if plain := _PLAIN.match(pattern, at):
            at = plain.end()
            continue
        if pattern[at] == "[":
            at = _end_of_class(pattern, at)
        elif pattern[at] == "(":
            at = _end_of_group(pattern, at)
        elif pattern[at] == "\\":
            at += 1
        at += 1
    return at
