"""A constraint as read: its text, its version set, and the rule of its language for membership."""

from collections.abc import Callable, Sequence
from typing import Any

import msgspec

from dokimon.core.versions.orders import Order
from dokimon.core.versions.sets import VersionSet, describe


class Constraint(msgspec.Struct, frozen=True, kw_only=True):
    """A compiled constraint.

    `versions` is the set over the keys of `order`. Where a language's pre-release rule is not a plain interval,
    `rule` decides membership of a key, and `versions` is the set without that rule. Where the tool itself chooses one
    of several that are installed, and not always the newest, `taken` says which, None where it accepts none.
    """

    language: str
    text: str
    order: Order
    versions: VersionSet
    rule: Callable[[Any], bool] | None = None
    taken: Callable[[Sequence[str]], str | None] | None = None

    def admits(self, version: str) -> bool:
        """Whether the constraint accepts `version`; raises `VersionFault` when the order cannot read it."""
        key = self.order.key(version)
        return self.rule(key) if self.rule else key in self.versions

    def side_of(self, version: str) -> int:
        """Return -1 when `version` is older than all that is accepted, 1 when newer, else 0."""
        return self.versions.side_of(self.order.key(version))

    @property
    def in_words(self) -> str:
        """The accepted versions in words."""
        return describe(self.versions)

    @property
    def exact(self) -> str | None:
        """The one accepted version as it was written, where there is only one."""
        if len(self.versions.intervals) != 1:
            return None
        low, high = self.versions.intervals[0].low, self.versions.intervals[0].high
        return low.label if not low.rank and not high.rank and low.key == high.key else None

    @property
    def lowest(self) -> str | None:
        """The oldest accepted version as it was written, where there is one."""
        low = self.versions.intervals[0].low if self.versions else None
        return low.label if low and not low.rank else None
