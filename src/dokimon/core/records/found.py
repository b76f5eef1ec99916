"""A difference as it is found, before it is ranked; and how far two versions are apart."""

from __future__ import annotations

import re
from typing import NamedTuple

from dokimon.core.report.model import DifferenceGroup


class Found(NamedTuple):
    """A difference before it is ranked: `words` are those by which a failure would name it, `tool` is the tool that uses
    it, `big` that it is more than a detail, `used` that the runs surely use it, `follows` that it follows from another one.
    """

    group: DifferenceGroup
    subject: str
    says: str
    before: str | None = None
    after: str | None = None
    more: tuple[str, ...] = ()
    words: tuple[str, ...] = ()
    tool: str | None = None
    big: bool = False
    used: bool = False
    follows: bool = False


STEPS = {"major": 0, "minor": 1, "patch": 2}


def step(before: str | None, after: str | None) -> str:
    """Return how far two versions are apart; what is not there on one side is as far as it can be.

    Below 1.0 the second number counts as the first does above (SemVer 2.0.0, section 4: anything may change).
    """
    old, new = (re.findall(r"\d+", text or "")[:3] for text in (before, after))
    if not old or not new or old[0] != new[0]:
        return "major"
    if old[1:2] != new[1:2]:
        return "major" if old[0] == "0" else "minor"
    return "patch"
