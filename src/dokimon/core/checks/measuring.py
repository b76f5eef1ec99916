"""Holding a value that was seen against what is expected of it: as text, a number, a size, versions, a clock."""

from __future__ import annotations

import operator
import re
from collections.abc import Callable
from typing import Any, NamedTuple

import msgspec

from dokimon.core.expressions import expression
from dokimon.core.measures import any_size, seconds
from dokimon.core.patterns import PatternFault, search
from dokimon.core.report.model import CheckVerdict
from dokimon.core.report.outcome import worst
from dokimon.core.text import clean

Scalar = str | int | float | bool | None


class Measure(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What is expected of a value; all that is given must hold.

    It `is` this very value, holds a match of `pattern`, is within `number` or `size` (`>= 3, < 10`; `= 4 MB`), is one of
    the versions `version`, is a time not further from now than `clock`, is `without` a text.
    """

    is_: Scalar | msgspec.UnsetType = msgspec.field(default=msgspec.UNSET, name="is")
    pattern: str | None = None
    number: str | None = None
    size: str | None = None
    version: str | None = None
    clock: str | None = None
    without: str | None = None


class Measured(NamedTuple):
    """What came of comparing a value with a measure."""

    verdict: CheckVerdict
    expected: str
    remark: str = ""


_COMPARISONS: dict[str, Callable[[float, float], bool]] = {
    ">=": operator.ge, "<=": operator.le, "!=": operator.ne, ">": operator.gt, "<": operator.lt, "=": operator.eq,
}  # fmt: skip
_BOUND = expression(r"(>=|<=|!=|>|<|=)?\s*(\S.*)")


def bounds(text: str, read: Callable[[str], float]) -> list[tuple[str, float]]:
    """Return the comparisons of `>= 3, < 10`, each value read by `read`; raises `ValueError`."""
    comparisons = []
    for part in text.split(","):
        found = _BOUND.fullmatch(part.strip())
        if not found:
            raise ValueError(f'"{text}" is not a valid range; write for example ">= 3, < 10"')
        comparisons.append((found[1] or "=", read(found[2])))
    return comparisons


def within(value: float, text: str, read: Callable[[str], float]) -> bool:
    """Whether the value meets every comparison of the text; raises `ValueError`."""
    return all(_COMPARISONS[sign](value, bound) for sign, bound in bounds(text, read))


def number(text: str) -> float:
    """Return the number that a text is; raises `ValueError`."""
    try:
        return float(text.replace("_", ""))
    except ValueError:
        raise ValueError(f'"{text}" is not a number') from None


def judge_value(value: Any, wanted: Measure) -> Measured:
    """Compare `value` (text, or whatever JSON has) with what is wanted of it."""
    judged: list[Measured] = []
    text = as_text(value)
    if wanted.is_ is not msgspec.UNSET:
        same = value == wanted.is_ or (isinstance(value, str) and value == as_text(wanted.is_))
        judged.append(Measured(_verdict(same), f"is {shown(wanted.is_)}"))
    if wanted.pattern is not None:
        try:
            judged.append(Measured(_verdict(search(wanted.pattern, text)), f"a match of {wanted.pattern}"))
        except PatternFault as fault:
            judged.append(Measured("unsure", f"a match of {wanted.pattern}", str(fault)))
    if wanted.without is not None:
        judged.append(Measured(_verdict(wanted.without not in text), f"without “{wanted.without}”"))
    for bound, read, name in ((wanted.number, number, "a number"), (wanted.size, any_size, "a size")):
        if bound is not None:
            judged.append(_judge_bound(text, bound, read, name))
    if wanted.version is not None:
        judged.append(_judge_version(text, wanted.version))
    if wanted.clock is not None:
        judged.append(_judge_clock(text, wanted.clock))
    if not judged:
        return Measured("passed", "to be there")
    verdict = worst(each.verdict for each in judged)
    return Measured(
        verdict, ", ".join(each.expected for each in judged), "; ".join(each.remark for each in judged if each.remark)
    )


def _verdict(holds: object) -> CheckVerdict:
    return "passed" if holds else "failed"


def _judge_bound(text: str, bound: str, read: Callable[[str], float], name: str) -> Measured:
    expected = bound if bound[:1] in "<>=!" else f"= {bound}"
    try:
        value = read(text.strip())
    except ValueError:
        return Measured("failed", expected, f"which is not {name}")
    return Measured(_verdict(within(value, bound, read)), expected)


def _judge_version(text: str, versions: str) -> Measured:
    from dokimon.core.versions import compiled
    from dokimon.core.versions.faults import VersionFault

    found = re.search(r"\d+(?:\.\d+)*(?:[-+.]?[0-9A-Za-z][0-9A-Za-z.+-]*)?", text)
    try:
        constraint = compiled("plain", versions)
        holds = found is not None and constraint.admits(found[0])
    except VersionFault as fault:
        return Measured("unsure", f"version {versions}", str(fault))
    return Measured(_verdict(holds), f"version {versions}", "" if found else "which holds no version")


def _judge_clock(text: str, distance: str) -> Measured:
    from datetime import UTC, datetime

    expected = f"the time of now, to {distance}"
    try:
        moment = datetime.fromisoformat(text.strip())
    except ValueError:
        return Measured("failed", expected, "which is not a time in the form of ISO 8601")
    now = datetime.now(UTC) if moment.tzinfo else datetime.now()
    off = abs((moment - now).total_seconds())
    return Measured(_verdict(off <= seconds(distance)), expected, f"{off:.0f} s off")


def as_text(value: Any) -> str:
    """Return a value of JSON as the text that it would be in a sentence."""
    if isinstance(value, str):
        return value
    if isinstance(value, bool) or value is None:
        return {True: "true", False: "false", None: "null"}[value]
    return msgspec.json.encode(value).decode() if isinstance(value, list | dict) else str(value)


def shown(value: Any) -> str:
    """Return a value as a report shows it: text in quotes, cleaned and cut."""
    return f"“{clean(value, 120)}”" if isinstance(value, str) else clean(as_text(value), 120)
