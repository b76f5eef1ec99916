"""The order of Maven (POM reference, "Version Order Specification", as Maven 3.8 carries it out).

A version is a list of numbers and words; a dash, or a change between digits and letters, opens a list inside it.
"""

from __future__ import annotations

from functools import cmp_to_key

from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.orders import Order

_QUALIFIERS = ("alpha", "beta", "milestone", "rc", "snapshot", "", "sp")
_ALIASES = {"ga": "", "final": "", "release": "", "cr": "rc"}
_SHORT = {"a": "alpha", "b": "beta", "m": "milestone"}
"""Short for a qualifier, but only where a digit follows."""

_RELEASE = (_QUALIFIERS.index(""), "")

Item = int | str | list["Item"]


def _word(text: str, before_digit: bool) -> str:
    if before_digit and text in _SHORT:
        return _SHORT[text]
    return _ALIASES.get(text, text)


def _rank(word: str) -> tuple[int, str]:
    return (_QUALIFIERS.index(word), "") if word in _QUALIFIERS else (len(_QUALIFIERS), word)


def _items(text: str) -> list[Item]:
    """Split a version into its nested list; what adds nothing at the end of a list is dropped."""
    top: list[Item] = []
    current, opened = top, [top]
    start, digits = 0, False
    lower = text.lower()

    def item(end: int, before_digit: bool = False) -> Item:
        part = lower[start:end]
        return int(part) if digits else _word(part, before_digit)

    def open_list() -> list[Item]:
        inner: list[Item] = []
        current.append(inner)
        opened.append(inner)
        return inner

    def open_list_for_word() -> list[Item]:
        """`.X` is the same as `-X` for a word X that ends the version or has a digit behind it."""
        return open_list() if current else current

    for index, char in enumerate(lower):
        if char in ".-":
            current.append(0 if index == start else item(index))
            start = index + 1
            if char == "-":
                current = open_list()
        elif char.isdecimal() and char.isascii():
            if not digits and index > start:
                current = open_list_for_word()
                current.append(item(index, before_digit=True))
                start = index
                current = open_list()
            digits = True
        else:
            if digits and index > start:
                current.append(item(index))
                start = index
                current = open_list()
            digits = False
    if len(lower) > start:
        current = current if digits else open_list_for_word()
        current.append(item(len(lower)))
    for each in reversed(opened):
        _normalize(each)
    return top


def _normalize(items: list[Item]) -> None:
    for index in range(len(items) - 1, -1, -1):
        if items[index] in (0, "", []):
            del items[index]
        elif not isinstance(items[index], list):
            break


def _compare(left: Item | None, right: Item | None) -> int:
    """Compare two items; None is an item that is not there."""
    if left is None:
        return 0 if right is None else -_compare(right, None)
    if isinstance(left, int):
        if isinstance(right, int):
            return (left > right) - (left < right)
        return int(bool(left)) if right is None else 1
    if isinstance(left, str):
        if isinstance(right, (int, list)):
            return -1
        theirs = _RELEASE if right is None else _rank(right)
        return (_rank(left) > theirs) - (_rank(left) < theirs)
    if isinstance(right, int):
        return -1
    if isinstance(right, str):
        return 1
    others = right or []
    for index in range(max(len(left), len(others))):
        mine = left[index] if index < len(left) else None
        theirs_item = others[index] if index < len(others) else None
        if result := _compare(mine, theirs_item):
            return result
    return 0


_key = cmp_to_key(_compare)


def parse(text: str) -> object:
    """Return the sort key of `text`; anything but nothing is a version to Maven. Raises `VersionFault`."""
    if not text.strip():
        raise VersionFault(text, 0, "is empty")
    return _key(_items(text.strip()))


MAVEN = Order("maven", parse)
