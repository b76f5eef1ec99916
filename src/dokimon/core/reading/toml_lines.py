"""The line of each key of a TOML text, which `tomllib` does not give. One pass over the text, in linear time."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator
from functools import lru_cache
from typing import NamedTuple

from dokimon.core.expressions import expression
from dokimon.core.reading.json_places import Keys

# TOML 1.0: strings of four kinds (a closing """ may follow one or two quotes that belong to the text), comments,
# line ends, punctuation, bare keys; all else belongs to numbers and dates.
_TOKEN = expression(
    r'(?P<string>"""(?:[^"\\]|\\.|"{1,2}(?!"))*"{3,5}'
    r"|'''(?:[^']|'{1,2}(?!'))*'{3,5}"
    r'|"(?:[^"\\\n]|\\.)*"'
    r"|'[^'\n]*')"
    r"|(?P<comment>#[^\n]*)"
    r"|(?P<end>\n)"
    r"|(?P<sign>[\[\]{},=.])"
    r"|(?P<bare>[A-Za-z0-9_-]+)"
    r"|(?P<other>[^\s\[\]{},=.\"'#]+)",
    re.DOTALL,
)


MOST_PARTS = 64
"""Parts of a dotted key: parsing takes a time that grows with the square of them, and nobody writes so many."""

_PERHAPS_DEEP = expression(rf"(?:[\w\"'-][ \t]*\.[^.\n]*){{{MOST_PARTS}}}")


def deep_key(text: str) -> int | None:
    """Return the line (from 1) of the first key of more than `MOST_PARTS` parts, or None; the text need not be valid."""
    if not _PERHAPS_DEEP.search(text):
        return None
    line, parts, dotted = 1, 0, False
    for token in _TOKEN.finditer(text):
        if token.lastgroup in ("bare", "string", "other"):
            parts = parts + 1 if dotted else 1
            if parts > MOST_PARTS:
                return line
        dotted = token[0] == "."
        line += token[0].count("\n")
    return None


def toml_line(text: str, keys: Keys) -> int:
    """Return the line (from 1) of the key of the value at `keys` in a valid TOML text.

    An item of an array has the line on which it begins. Where there is nothing at `keys`, the line is that of what would
    hold it.
    """
    lines = _lines(text)
    for length in range(len(keys), 0, -1):
        if line := lines.get(keys[:length]):
            return line
    return 1


def toml_keys(text: str) -> frozenset[Keys]:
    """Return the way to every table, array and value of a valid TOML text."""
    return frozenset(_lines(text))


class _Token(NamedTuple):
    kind: str
    text: str
    line: int


@lru_cache(maxsize=2)
def _lines(text: str) -> dict[Keys, int]:
    """Return the line of every key; one file is asked for many of its lines in a row."""
    return _Scan(text).lines


class _Scan:
    """One walk over the tokens. `lines` grows as keys are met; the inside of a string is never taken for one."""

    def __init__(self, text: str) -> None:
        self.lines: dict[Keys, int] = {}
        self._counts: dict[Keys, int] = {}
        self._tokens = self._read(text)
        self._token = next(self._tokens, None)
        table: Keys = ()
        while self._token is not None:
            if self._token.text == "[" and self._token.kind == "sign":
                table = self._header()
            elif self._token.kind in ("bare", "string"):
                self._pair(table)
            else:
                self._next()

    @staticmethod
    def _read(text: str) -> Iterator[_Token]:
        line = 1
        for found in _TOKEN.finditer(text):
            if found.lastgroup != "comment":
                yield _Token(found.lastgroup or "other", found[0], line)
            line += found[0].count("\n")

    def _next(self) -> None:
        self._token = next(self._tokens, None)

    def _is(self, signs: str) -> bool:
        return self._token is not None and self._token.kind == "sign" and self._token.text in signs

    def _remember(self, keys: Keys, line: int) -> None:
        self.lines.setdefault(keys, line)

    def _names(self) -> tuple[list[str], int]:
        """Read a key, dotted or not, and return its names and its line; the token after it is the current one then."""
        names: list[str] = []
        line = self._token.line if self._token else 1
        while self._token is not None and self._token.kind in ("bare", "string", "other"):
            names.append(_key(self._token))
            self._next()
            if not self._is("."):
                break
            self._next()
        return names, line

    def _header(self) -> Keys:
        """Read `[table]` or `[[table]]`, and return the way to it, with the index of each array of tables on the way."""
        line = self._token.line if self._token else 1
        self._next()
        is_array = self._is("[")
        if is_array:
            self._next()
        names, _ = self._names()
        keys: Keys = ()
        for depth, name in enumerate(names):
            keys = (*keys, name)
            self._remember(keys, line)
            if is_array and depth == len(names) - 1:
                self._counts[keys] = self._counts.get(keys, -1) + 1
            if keys in self._counts:
                keys = (*keys, self._counts[keys])
                self._remember(keys, line)
        while self._is("]"):
            self._next()
        return keys

    def _pair(self, table: Keys) -> None:
        """Read `key = value` of a table."""
        keys = self._key_and_sign(table)
        self._value(keys)

    def _key_and_sign(self, table: Keys) -> Keys:
        names, line = self._names()
        keys = table
        for name in names:
            keys = (*keys, name)
            self._remember(keys, line)
        if self._is("="):
            self._next()
        return keys

    def _value(self, keys: Keys) -> None:
        """Read a value to its end. Arrays and inline tables that are open are kept on a stack: depth costs no frames."""
        open_at: list[tuple[Keys, int | None]] = []  # the way to each, and the index of the next item of an array
        here = keys
        while self._token is not None:
            if self._is("[") or self._is("{"):
                is_array = self._is("[")
                open_at.append((here, 0 if is_array else None))
                self._next()
            elif self._is("]") or self._is("}"):
                if not open_at:
                    return
                open_at.pop()
                self._next()
            elif self._is(","):
                self._next()
            elif self._token.kind == "end":
                if not open_at:
                    return
                self._next()
                continue
            else:
                self._scalar()
            if not open_at:
                return
            here = self._item(open_at)

    def _scalar(self) -> None:
        """Skip a string, number, date or word: everything up to the next character that ends it."""
        while self._token is not None and self._token.kind != "end" and not self._is(",]}"):
            self._next()

    def _item(self, open_at: list[tuple[Keys, int | None]]) -> Keys:
        """Step to what comes next in the innermost array or inline table, and return the way to it."""
        while self._is(",") or (self._token is not None and self._token.kind == "end"):
            self._next()
        keys, index = open_at[-1]
        if self._token is None or self._is("]}"):
            return keys
        if index is None:
            return self._key_and_sign(keys)
        open_at[-1] = (keys, index + 1)
        self._remember((*keys, index), self._token.line)
        return (*keys, index)


def _key(token: _Token) -> str:
    if token.kind != "string":
        return token.text
    if token.text[0] == '"' and "\\" in token.text:
        return next(iter(tomllib.loads(f"{token.text} = 0")))
    return token.text[1:-1]
