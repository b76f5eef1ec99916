"""The language of `dokimon.toml`: `>=18.17, <23`, a comma for and, `or` for or.

One rule gives every operator its meaning: a version stands for all the versions that begin with it. So `18` is any
18.x, `<=18` goes to the last 18.x, `>18` starts at 19, `!=18` leaves out every 18.x. Pre-releases of 19 come before
19 and are no part of 18.
"""

import re

from dokimon.core.expressions import expression
from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.orders import Order, dotted
from dokimon.core.versions.orders.dotted import DOTTED
from dokimon.core.versions.sets import ALL, HIGHEST, LOWEST, NONE, VersionSet, before, between

_TERM = expression(r"\s*(>=|<=|!=|==|>|<|=)?\s*(v?\d[\w.+~:!^-]*?)((?:\.[x*])*)\s*", re.ASCII)
_NUMBERS = expression(r"v?(\d+(?:\.\d+)*)")


def _block(version: str) -> VersionSet:
    """Return the versions that begin with `version`: from it up to the first pre-release of the next."""
    found = _NUMBERS.fullmatch(version)
    if not found:  # with a suffix it stands for itself alone
        key = dotted.parse(version)
        return between(before(key, version), before((key[0], key[1], (*key[2], (2, 0, ""))), version))
    numbers = tuple(int(n) for n in found[1].split("."))
    raised = (*numbers[:-1], numbers[-1] + 1)
    following = ".".join(str(n) for n in raised)
    low = before(dotted.key_of(numbers), found[1])
    return between(low, before(dotted.key_of(raised, dotted.FIRST), following))


def _term(text: str, whole: str, offset: int, order: Order) -> VersionSet:
    if text.strip() in ("*", "any"):
        return ALL
    found = _TERM.fullmatch(text)
    if not found:
        position = offset + len(text) - len(text.lstrip())
        wrong = "nothing stands here" if not text.strip() else f"{text.strip()!r} is not a version"
        raise VersionFault(whole, position, f'{wrong}; write for example ">=18.17, <23"')
    block = _block(order.spell(found[2])).intervals[0]
    return {
        ">=": between(block.low, HIGHEST),
        ">": between(block.high, HIGHEST),
        "<": between(LOWEST, before(_floor(block.low.key), block.low.label)),
        "<=": between(LOWEST, block.high),
        "!=": ~between(block.low, block.high),
    }.get(found[1] or "=", between(block.low, block.high))


def _floor(key: dotted.Key) -> dotted.Key:
    """`<23` leaves out the pre-releases of 23 too; `<23-rc2` means just what it says."""
    return (key[0], dotted.FIRST, ()) if key[1] == dotted.BARE else key


def compile(text: str, order: Order = DOTTED) -> Constraint:
    """Compile a constraint of `dokimon.toml`, over an order that spells versions as dotted numbers.

    Raises `VersionFault` with the position of the fault.
    """
    versions, offset = NONE, 0
    for alternative in re.split(r"(\bor\b|\|\|)", text):
        if alternative not in ("or", "||"):
            joined, inner = ALL, offset
            for term in alternative.split(","):
                joined &= _term(term, text, inner, order)
                inner += len(term) + 1
            versions |= joined
        offset += len(alternative)
    return Constraint(language="plain", text=text, order=order, versions=versions)
