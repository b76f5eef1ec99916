"""Dart's version constraints (dart.dev, "Package dependencies"): `^1.2.3`, `>=2.12.0 <4.0.0`, `any`, a version alone.

An end such as `<2.0.0` leaves out the pre-releases of 2.0.0, unless the start is one of them itself.
"""

from __future__ import annotations

import re

from dokimon.core.expressions import expression
from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.languages.comparing import compare
from dokimon.core.versions.orders import dart
from dokimon.core.versions.orders.dart import DART, VERSION
from dokimon.core.versions.sets import ALL, VersionSet, before, between

_TERM = expression(rf"\s*(>=|<=|>|<|\^)?\s*({VERSION})\s*")


def _caret(found: re.Match[str]) -> VersionSet:
    major, minor = int(found[3]), int(found[4])
    following = (major + 1, 0, 0) if major else (0, minor + 1, 0)
    high = before(dart.key_of(*following, "0"), ".".join(str(n) for n in following))
    return between(before(DART.key(found[2]), found[2]), high)


def compile(text: str) -> Constraint:
    """Compile a version constraint of `pubspec.yaml`. Raises `VersionFault`."""
    if text.strip() in ("any", ""):
        return Constraint(language="dart", text=text, order=DART, versions=ALL)
    versions, position = ALL, 0
    starts_with_pre_release: set[tuple[int, int, int]] = set()
    ends: list[tuple[int, int, int]] = []
    while position < len(text):
        found = _TERM.match(text, position)
        if not found:
            skipped = len(text[position:]) - len(text[position:].lstrip())
            raise VersionFault(text, position + skipped, "is not a constraint as Dart writes it")
        operator, numbers = found[1] or "=", (int(found[3]), int(found[4]), int(found[5]))
        versions &= _caret(found) if operator == "^" else compare(operator, DART.key(found[2]), found[2])
        if found[6] and operator in (">", ">="):
            starts_with_pre_release.add(numbers)
        if operator == "<" and not found[6] and not found[7]:
            ends.append(numbers)
        position = found.end()
    for numbers in ends:
        if numbers not in starts_with_pre_release:
            label = ".".join(str(n) for n in numbers)
            versions &= compare("<", dart.key_of(*numbers, "0"), label)
    return Constraint(language="dart", text=text, order=DART, versions=versions)
