"""Facts: a value that the run gives (in its output, an answer, a file), compared with what is expected of it."""

from __future__ import annotations

import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any, ClassVar

import msgspec

from dokimon.core.checks.context import CheckContext
from dokimon.core.checks.fetching import fetch
from dokimon.core.checks.http import PAGE_SECONDS
from dokimon.core.checks.measuring import Measure, Measured, Scalar, judge_value, shown
from dokimon.core.checks.spec import CheckSpec
from dokimon.core.checks.value_places import Place, PlaceFault, kind_of, value_in
from dokimon.core.files import inside
from dokimon.core.measures import seconds
from dokimon.core.report.model import Check
from dokimon.core.text import clean

_SERVER_SECONDS = "5s"
_LARGEST_FILE = 8 * 1024 * 1024


class SameAs(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Another place that must have the same value: a `file` of the checkout, or the `fact` of another run (`of`)."""

    file: str | None = None
    fact: str | None = None
    of: str | None = None
    at: str | None = None
    element: str | None = None
    attribute: str | None = None
    pattern: str | None = None


class FactCheck(CheckSpec, frozen=True, kw_only=True):
    """`fact = "version"`, a name for a value in one of three places: `printed`, `get` or `file`.

    `printed` is a pattern over the output. Into an answer or a file lead `at` (JSON Pointer), `element` (with
    `attribute`), `pattern` or `header`. Then what is expected: all that a measure has, and `same_as` another place.
    """

    kind_name: ClassVar[str] = "fact"

    fact: str = ""
    printed: str | None = None
    get: str | None = None
    file: str | None = None
    at: str | None = None
    element: str | None = None
    attribute: str | None = None
    pattern: str | None = None
    header: str | None = None
    is_: Scalar | msgspec.UnsetType = msgspec.field(default=msgspec.UNSET, name="is")
    number: str | None = None
    size: str | None = None
    version: str | None = None
    clock: str | None = None
    without: str | None = None
    same_as: SameAs | None = None
    within: str | None = None

    @property
    def default_name(self) -> str:
        """The name of the check where the project gives it none."""
        return self.fact

    def problems(self) -> Iterator[tuple[str, str]]:
        """A fact is looked for in one place."""
        if sum(place is not None for place in (self.printed, self.get, self.file)) != 1:
            yield "", 'a "fact" is found in one of "printed", "get" and "file"'

    def gives(self) -> frozenset[str]:
        """The fact itself."""
        return frozenset({self.fact})

    def uses(self) -> frozenset[str]:
        """The names in braces, and the fact that it is compared with."""
        other = {self.same_as.fact} if self.same_as and self.same_as.fact else set()
        return super().uses() | other - {self.fact}

    def look(self, context: CheckContext) -> list[Check]:
        """Look at the run, and return what was seen."""
        return _look(self, context)


def _look(spec: FactCheck, context: CheckContext) -> list[Check]:
    """Find the value, keep it for others, and compare it with what is expected."""
    measure = Measure(
        is_=spec.is_, number=spec.number, size=spec.size, version=spec.version, clock=spec.clock,
        without=spec.without,
    )  # fmt: skip
    name = clean(spec.fact, 80)
    try:
        value = _value(spec, context)
    except PlaceFault as fault:
        return [
            Check(
                name=name, verdict="failed", expected=clean(judge_value("", measure).expected), seen=clean(str(fault))
            )
        ]
    context.facts[context.name, spec.fact] = value
    judged = judge_value(value, measure)
    if spec.same_as is not None:
        judged = _with_same(judged, measure, value, spec.same_as, context)
    seen = shown(value) + (f", {judged.remark}" if judged.remark else "")
    return [Check(name=name, verdict=judged.verdict, expected=clean(judged.expected), seen=clean(seen))]


def _value(spec: FactCheck, context: CheckContext) -> Any:
    place = Place(at=spec.at, element=spec.element, attribute=spec.attribute, pattern=spec.pattern, header=spec.header)
    if spec.printed is not None:
        return _printed(spec.printed, spec.within, context)
    if spec.file is not None:
        return value_in_file(spec.file, place, context.root)
    if context.origin is None:
        raise PlaceFault("the run has no address that could be asked")
    answer = fetch(context.origin, context.filled(spec.get or "/"), seconds=PAGE_SECONDS, cookies=context.cookies)
    if answer.status is None:
        raise PlaceFault(answer.fault or "nothing came back")
    if answer.status >= 400:
        raise PlaceFault(f"{spec.get} answers with status {answer.status}")
    return _found(place, answer.text, answer.headers, "json")


def _found(place: Place, text: str, headers: dict[str, str] | None, kind: str) -> Any:
    from dokimon.core.checks.html import SelectorFault

    try:
        return value_in(place, text, headers, kind)
    except SelectorFault as fault:
        raise PlaceFault(str(fault)) from None


def _printed(pattern: str, within: str | None, context: CheckContext) -> Any:
    """Return the value from the output; a run that goes on may take a while to print it."""
    deadline = time.monotonic() + (0 if context.ended else seconds(within or _SERVER_SECONDS))
    while True:
        known = context.output.count
        try:
            return value_in(Place(pattern=pattern), context.output.text())
        except PlaceFault as fault:
            if time.monotonic() >= deadline or context.halt.is_set():
                raise PlaceFault(f"{fault} in what it printed") from None
        context.output.wait_for_more(known, min(0.25, deadline - time.monotonic()))


def value_in_file(name: str, place: Place, root: Path) -> Any:
    """Return the value at `place` in a file of the checkout; raises `PlaceFault`."""
    path = root / name
    if not inside(path, root):
        raise PlaceFault(f"{name} is outside the checkout")
    try:
        with path.open("rb") as file:
            text = file.read(_LARGEST_FILE).decode("utf-8", "replace")
    except OSError as wrong:
        raise PlaceFault(f"{name}: {wrong.strerror}") from None
    return _found(place, text, None, kind_of(path))


def _with_same(judged: Measured, measure: Measure, value: Any, other: SameAs, context: CheckContext) -> Measured:
    """Add to a judgement that another place must have the same value."""
    where = other.file or f"{other.fact} of {other.of}"
    alone = measure == Measure()
    expected = ", ".join(([] if alone else [judged.expected]) + [f"the same as {where}"])
    try:
        theirs = _theirs(other, context)
    except PlaceFault as fault:
        return Measured("failed" if judged.verdict == "failed" else "unsure", expected, str(fault))
    same = as_compared(value) == as_compared(theirs)
    same_value = f"the same as {where}, {shown(theirs)}"
    expected = ", ".join(([] if alone else [judged.expected]) + [same_value])
    remark = "; ".join(each for each in (judged.remark, f"as {where} says" if same else "") if each)
    return Measured(judged.verdict if same else "failed", expected, remark)


def as_compared(value: Any) -> str:
    """Return a value as it is compared with another place's: `v1.4` and `1.4` are the same version."""
    text = str(value).strip()
    return text[1:] if text[:1] == "v" and text[1:2].isdecimal() else text


def _theirs(other: SameAs, context: CheckContext) -> Any:
    if other.file is not None:
        place = Place(at=other.at, element=other.element, attribute=other.attribute, pattern=other.pattern)
        return value_in_file(other.file, place, context.root)
    key = (other.of or context.name, other.fact or "")
    if key not in context.facts:
        raise PlaceFault(f"{key[0]} has not found “{key[1]}” before")
    return context.facts[key]
