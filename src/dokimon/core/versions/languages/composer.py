"""Composer's constraints (getcomposer.org, "Versions and constraints").

A comma or a space stands for and, `|` or `||` for or. `>=` and `<` start before the pre-releases of the version they
name, unless a stability is written there. A flag (`@beta`) sets the stability of a bound that names none.
"""

from __future__ import annotations

import re

from dokimon.core.expressions import expression
from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.languages.comparing import compare, dotted_label, next_at
from dokimon.core.versions.orders import composer
from dokimon.core.versions.orders.composer import COMPOSER, DEV, MODIFIER, Key
from dokimon.core.versions.sets import ALL, NONE, VersionSet, after, before, between

_NUMBERS = r"v?(\d+)(?:\.(\d+))?(?:\.(\d+))?(?:\.(\d+))?"
_VERSION = rf"{_NUMBERS}(?:{MODIFIER}|\.(?:x|\*)(?:[.-]?dev)?)(?:\+[^\s]+)?"
_FLAG = expression(r"([^,\s]*?)@(stable|RC|beta|alpha|dev)", re.IGNORECASE)
_HYPHEN = expression(rf"\s*({_VERSION})\s+-\s+({_VERSION})\s*", re.IGNORECASE)
_AND = expression(r"(?<![=<>!~^\s,-])\s*[,\s]\s*(?![,\s-]|$)")
"""Between two constraints; the blanks around the hyphen of a range are inside one."""


def _numbers(groups: tuple[str | None, ...]) -> tuple[int, ...]:
    return tuple(int(number) for number in groups[:4] if number is not None)


class _Bound:
    """A version in a constraint: its numbers, and its key with the stability written there, else `-dev`."""

    def __init__(self, text: str) -> None:
        found = re.fullmatch(_VERSION, text, re.IGNORECASE)
        if not found:
            raise VersionFault(text, 0, "is not a version")
        self.numbers = _numbers(found.groups())
        self.stable = not (found[5] and found[5].lower() != "stable") and not found[7]
        self.named = bool(found[5] or found[7])
        self.exact = composer.key_of(self.numbers, composer.suffix_of(found[5], found[6], found[7]))
        self.first = self.exact if self.named else composer.key_of(self.numbers, DEV)
        self.label = re.sub(r"^v", "", text)


def _until(numbers: tuple[int, ...]) -> tuple[Key, str]:
    return composer.key_of(numbers, DEV), dotted_label(numbers)


def _range(low: _Bound, position: int) -> VersionSet:
    return between(before(low.first, low.label), before(*_until(next_at(low.numbers, position))))


def _caret(low: _Bound) -> VersionSet:
    numbers = low.numbers
    if numbers[0] or len(numbers) == 1:
        return _range(low, 0)
    return _range(low, 1 if numbers[1] or len(numbers) == 2 else 2)


def _wildcard(numbers: tuple[int, ...]) -> VersionSet:
    high = before(*_until(next_at(numbers, len(numbers) - 1)))
    if not any(numbers):
        return compare("<", high.key, high.label)
    return between(before(composer.key_of(numbers, DEV), dotted_label(numbers)), high)


def _term(term: str) -> VersionSet:
    flag = _FLAG.fullmatch(term)
    modifier = flag[2].lower() if flag else ""
    term = (flag[1] or "*") if flag else term
    if re.fullmatch(r"v?[xX*](\.[xX*])*", term):
        return ALL
    if term.lower().startswith("dev-"):
        return NONE  # a branch: no version that can be found on a machine
    if wild := re.fullmatch(r"v?(\d+)(?:\.(\d+))?(?:\.(\d+))?(?:\.[xX*])+", term):
        return _wildcard(_numbers(wild.groups()))
    if term.startswith(("^", "~")):
        low = _Bound(term.lstrip("^~>").strip())
        return _caret(low) if term[0] == "^" else _range(low, max(0, len(low.numbers) - 2))
    found = re.fullmatch(r"(<>|!=|>=?|<=?|==?)?\s*(.*)", term)
    operator, bound = (found[1] or "=") if found else "=", _Bound(found[2] if found else term)
    key = bound.exact
    if operator not in ("=", "==") and modifier not in ("", "stable") and bound.stable:
        key = composer.key_of(bound.numbers, composer.suffix_of(None if modifier == "dev" else modifier, None, None))
        key = composer.key_of(bound.numbers, DEV) if modifier == "dev" else key
    elif operator in ("<", ">="):
        key = bound.first
    return compare("!=" if operator == "<>" else operator, key, bound.label)


def _hyphen(groups: tuple[str | None, ...]) -> VersionSet:
    low, high = _Bound(groups[0] or ""), _Bound(groups[8] or "")
    start = before(low.first, low.label)
    if len(high.numbers) >= 3 or high.named:
        return between(start, after(high.exact, high.label))
    return between(start, before(*_until(next_at(high.numbers, len(high.numbers) - 1))))


def _without_blanks(term: str) -> str:
    """Return a term without blanks behind its operator; with them, Composer takes no notice of a flag."""
    spaced = re.sub(r"^(<>|!=|>=?|<=?|==?|\^|~)\s+", r"\1", term)
    return spaced if spaced == term else re.sub(r"(?i)@(?:stable|RC|beta|alpha|dev)$", "", spaced)


def _alternative(text: str, whole: str, offset: int) -> VersionSet:
    joined, position = ALL, len(text) - len(text.lstrip())
    for separator in [*_AND.finditer(text.rstrip(), position), None]:
        end = separator.start() if separator else len(text)
        term = text[position:end].strip()
        try:
            if hyphen := _HYPHEN.fullmatch(term):
                joined &= _hyphen(hyphen.groups())
                position = separator.end() if separator else end
                continue
            joined &= _term(_without_blanks(term))
        except VersionFault as fault:
            reason = fault.says if term else "nothing stands here"
            raise VersionFault(whole, offset + position, reason) from None
        position = separator.end() if separator else end
    return joined


def compile(text: str) -> Constraint:
    """Compile a constraint of `composer.json`. Raises `VersionFault`."""
    versions, offset = NONE, 0
    for alternative in re.split(r"(\|\|?)", text):
        if not alternative.startswith("|"):
            versions |= _alternative(alternative, text, offset)
        offset += len(alternative)
    return Constraint(language="composer", text=text, order=COMPOSER, versions=versions)
