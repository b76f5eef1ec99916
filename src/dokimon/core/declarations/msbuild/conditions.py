"""`Condition` in files of MSBuild (learn.microsoft.com, "MSBuild conditions"): true, false, or not to be decided here."""

from __future__ import annotations

import os
import re
from collections.abc import Sequence
from pathlib import Path

from dokimon.core.declarations.msbuild.expressions import Scope, expand, is_known
from dokimon.core.expressions import expression

_TOKEN = expression(
    r"\s*(?:(?P<quoted>'[^']*')|(?P<sign>==|!=|<=|>=|<|>|!|\(|\)|,)|(?P<expression>[$@%]\()|(?P<word>[^\s'()=!<>,]+))"
)
_DEEPEST = 40
_LONGEST = 4000


class _Undecided(Exception):
    """The condition is none, or asks for what is not known here."""


def holds(condition: str, scope: Scope, folder: Path) -> bool | None:
    """Whether a condition is met; True for an empty one, None where that is not known here.

    What it asks for with `Exists` lies in `folder`.
    """
    if not condition.strip():
        return True
    try:
        tokens = _tokens(condition)
        reader = _Reader(tokens, scope, folder)
        value = reader.any_of(0)
        return value if reader.at == len(tokens) else None
    except _Undecided:
        return None


def _tokens(text: str) -> list[str]:
    """Return the pieces of a condition; an expression with all its brackets is one. Raises `_Undecided`."""
    found: list[str] = []
    at, text = 0, text[:_LONGEST].rstrip()
    while at < len(text):
        match = _TOKEN.match(text, at)
        if match is None:
            raise _Undecided
        end = match.end()
        if match["expression"]:
            depth = 1
            while end < len(text) and depth:
                depth += {"(": 1, ")": -1}.get(text[end], 0)
                end += 1
            found.append(text[match.start("expression") : end])
        else:
            found.append(match[0].strip())
        at = end
    return found


class _Reader:
    """Reads the pieces from left to right: `Or` binds least, then `And`, then `!`."""

    def __init__(self, tokens: Sequence[str], scope: Scope, folder: Path) -> None:
        self._tokens, self._scope, self._folder, self.at = tokens, scope, folder, 0

    def _peek(self) -> str:
        return self._tokens[self.at].lower() if self.at < len(self._tokens) else ""

    def _take(self, wanted: str = "") -> str:
        if self.at >= len(self._tokens) or (wanted and self._peek() != wanted):
            raise _Undecided
        self.at += 1
        return self._tokens[self.at - 1]

    def any_of(self, depth: int) -> bool | None:
        found = self._all_of(depth)
        while self._peek() == "or":
            self._take()
            other = self._all_of(depth)
            found = _first_of((True, None, False), found, other)
        return found

    def _all_of(self, depth: int) -> bool | None:
        found = self._one(depth)
        while self._peek() == "and":
            self._take()
            other = self._one(depth)
            found = _first_of((False, None, True), found, other)
        return found

    def _one(self, depth: int) -> bool | None:
        if depth > _DEEPEST:
            raise _Undecided
        if self._peek() == "!":
            self._take()
            found = self._one(depth + 1)
            return None if found is None else not found
        if self._peek() == "(":
            self._take()
            found = self.any_of(depth + 1)
            self._take(")")
            return found
        if self._peek() in ("exists", "hastrailingslash"):
            return self._function(self._take().lower())
        left = self._operand()
        if self._peek() in _COMPARISONS:
            return _compared(self._take(), left, self._operand())
        return {"true": True, "on": True, "yes": True, "false": False, "off": False, "no": False}.get(left.lower())

    def _operand(self) -> str:
        token = self._take()
        if token in ("(", ")", ",", "!") or token in _COMPARISONS:
            raise _Undecided
        return expand(token[1:-1] if token.startswith("'") else token, self._scope)

    def _function(self, name: str) -> bool | None:
        self._take("(")
        value = self._operand()
        self._take(")")
        if not is_known(value):
            return None
        if name == "hastrailingslash":
            return value.endswith(("/", "\\"))
        path = Path(os.path.normpath(self._folder / value.replace("\\", "/")))
        return bool(value) and path.exists() if path.is_relative_to(self._scope.root) else None


def _first_of(order: tuple[bool | None, ...], *found: bool | None) -> bool | None:
    """Return the first value of an order that is among those found."""
    return next(each for each in order if each in found)


_COMPARISONS = ("==", "!=", "<", "<=", ">", ">=")
_VERSION = re.compile(r"v?\d+(?:\.\d+){1,3}")


def _compared(sign: str, left: str, right: str) -> bool | None:
    """Compare two texts without regard to case, or two numbers or versions; None where one is not known."""
    if not (is_known(left) and is_known(right)):
        return None
    first, second = _number(left), _number(right)
    if sign in ("==", "!="):
        same = first == second if first is not None and second is not None else left.lower() == right.lower()
        return same if sign == "==" else not same
    if first is None or second is None:
        pair = [tuple(map(int, each.lstrip("vV").split("."))) for each in (left, right) if _VERSION.fullmatch(each)]
        if len(pair) < 2:
            raise _Undecided
        return _ordered(sign, pair[0], pair[1])
    return _ordered(sign, (first,), (second,))


def _number(text: str) -> float | None:
    if re.fullmatch(r"0[xX][0-9a-fA-F]{1,8}", text):
        return float(int(text, 16))
    return float(text) if re.fullmatch(r"[+-]?\d{1,15}(?:\.\d{1,15})?", text) else None


def _ordered(sign: str, left: tuple[float, ...], right: tuple[float, ...]) -> bool:
    return {"<": left < right, "<=": left <= right, ">": left > right, ">=": left >= right}[sign]
