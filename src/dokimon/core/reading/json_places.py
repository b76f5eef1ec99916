"""Where each value of a JSON text begins: no parser of the standard library or of our dependencies gives that."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache

from dokimon.core.expressions import expression

Keys = tuple[str | int, ...]
"""The way to a value: the key of an object or the index of a list at each level."""

_COMMENT = expression(r'"(?:[^"\\\n]|\\.)*"|//[^\n]*|/\*(?:[^*]|\*(?!/))*(?:\*/|\Z)', re.DOTALL)
"""A text, or a comment; one that is never closed goes on to the end, so that no place is looked at twice."""


def without_comments(text: str) -> str:
    """Return JSON text with its comments blanked out, so that every place in it stays where it is."""

    def blank(found: re.Match[str]) -> str:
        unclosed = found[0].startswith("/*") and not found[0].endswith("*/")
        return found[0] if found[0].startswith('"') or unclosed else re.sub(r"[^\n]", " ", found[0])

    return _COMMENT.sub(blank, text)


_JSON_TOKEN = expression(r'"(?:[^"\\]|\\.)*"|[{}\[\],:]|[^\s{}\[\],:"]+')


def json_line(text: str, keys: Keys) -> int:
    """Return the line (from 1) on which the value at `keys` begins in a valid JSON text, comments allowed, or 1."""
    return text.count("\n", 0, json_place(text, keys)) + 1


def json_place(text: str, keys: Keys) -> int:
    """Return where (in characters) the value at `keys` begins in a valid JSON text, comments allowed, or 0."""
    place = _only_place(text, keys)
    return _json_places(text).get(keys, 0) if place is None else place


def _only_place(text: str, keys: Keys) -> int | None:
    """Return where the value begins when each key occurs just once after the one before it: then it can only be there."""
    place = 0
    for key in keys:
        quoted = f'"{key}"'
        found = text.find(quoted, place) if isinstance(key, str) else -1
        if found < 0 or text.find(quoted, found + 1) >= 0:
            return None
        place = found + len(quoted)
    while place < len(text) and text[place] in ": \t\r\n":
        place += 1
    return place if "/" not in text else None  # a comment may hold a key too


@lru_cache(maxsize=2)
def _json_places(text: str) -> dict[Keys, int]:
    """Return where each value begins; one file is asked for several of its lines in a row."""
    return dict(_json_values(without_comments(text) if "/" in text else text))


def _json_values(text: str) -> Iterator[tuple[Keys, int]]:
    """Yield the path and the offset of every value of a valid JSON text, in order."""
    import json

    open_at: list[str | int] = []  # the key or index that is being read at each level; -1 before the first item
    is_list: list[bool] = []
    key_next = False
    for token in _JSON_TOKEN.finditer(text):
        word = token[0]
        if word in "}]":
            is_list.pop()
            open_at.pop()
            key_next = False
        elif word == ",":
            key_next = bool(is_list) and not is_list[-1]
        elif word == ":":
            key_next = False
        elif key_next:
            open_at[-1] = json.loads(word)
        else:
            if is_list and is_list[-1]:
                open_at[-1] = int(open_at[-1]) + 1
            yield tuple(open_at), token.start()
            if word in "{[":
                open_at.append(-1)
                is_list.append(word == "[")
                key_next = word == "{"
