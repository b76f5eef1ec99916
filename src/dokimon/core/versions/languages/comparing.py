"""What the languages share: the versions that a comparison accepts, and following a tuple of numbers."""

from __future__ import annotations

from typing import Any

from dokimon.core.versions.orders import Order
from dokimon.core.versions.sets import HIGHEST, LOWEST, Cut, VersionSet, after, before, between


def compare(operator: str, key: Any, label: str) -> VersionSet:
    """Return the versions that are in the relation `operator` to one version; any other operator means equal."""
    exactly = between(before(key, label), after(key, label))
    return {
        ">=": between(before(key, label), HIGHEST),
        ">": between(after(key, label), HIGHEST),
        "<": between(LOWEST, before(key, label)),
        "<=": between(LOWEST, after(key, label)),
        "!=": ~exactly,
    }.get(operator, exactly)


def low_end(order: Order, text: str | None, *, included: bool) -> Cut:
    """Return where a range begins: at the version `text`, just after it, or before all versions without one."""
    if not text:
        return LOWEST
    return (before if included else after)(order.key(text), text)


def high_end(order: Order, text: str | None, *, included: bool) -> Cut:
    """Return where a range ends: just after the version `text`, at it, or after all versions without one."""
    if not text:
        return HIGHEST
    return (after if included else before)(order.key(text), text)


def next_at(numbers: tuple[int, ...], position: int) -> tuple[int, ...]:
    """Return the numbers up to `position` (from 0), the last of them raised by one: (1, 2, 3) at 1 is (1, 3)."""
    padded = (*numbers, *(0,) * position)[: position + 1]
    return (*padded[:-1], padded[-1] + 1)


def breaking_position(numbers: tuple[int, ...]) -> int:
    """Return which number a caret holds fast: the first that is not zero, else the last that was given."""
    return next((index for index, number in enumerate(numbers) if number), len(numbers) - 1)


def dotted_label(numbers: tuple[int, ...]) -> str:
    """Return numbers as they are written."""
    return ".".join(str(number) for number in numbers)
