"""Version sets of different languages in one order, so that they can be compared with each other.

Every language's order refines the plain dotted one for the versions that tools really have: a cut is carried over by
the version it was written with. Where it lies before that version's own place, it lies before its pre-releases.
"""

from __future__ import annotations

from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.orders import Order, dotted
from dokimon.core.versions.sets import NONE, Cut, VersionSet, between


def in_common(constraint: Constraint) -> VersionSet | None:
    """Return the constraint's set over the plain dotted order, or None where a version in it has no place there."""
    if constraint.order is dotted.DOTTED:
        return constraint.versions
    versions = NONE
    for interval in constraint.versions.intervals:
        low, high = _carried(interval.low, constraint.order), _carried(interval.high, constraint.order)
        if low is None or high is None:
            return None
        versions |= between(low, high)
    return versions


def _carried(cut: Cut, order: Order) -> Cut | None:
    if cut.rank:
        return cut
    label = cut.label.removesuffix("-0")
    try:
        written = order.key(cut.label)
        key = dotted.parse(order.spell(label))
    except VersionFault:
        written = None
        try:
            key = dotted.parse(order.spell(label))
        except VersionFault:
            return None
    below = label != cut.label or (written is not None and cut.key < written)
    if below and key[1] == dotted.BARE:
        key = (key[0], dotted.FIRST, ())
    return Cut(rank=0, key=key, side=cut.side, label=label)
