"""One version compared with one constraint."""

from __future__ import annotations

from dokimon.core.judging.values import Judgement
from dokimon.core.machine.survey import Installation
from dokimon.core.report.model import Found
from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.faults import VersionFault

_SIDES = {-1: "too old", 0: "left out", 1: "too new"}


def held(
    constraint: Constraint, version: str, copy: Installation | None = None, found: Found | None = None, note: str = ""
) -> Judgement:
    """Compare a version with a constraint; `note` is added to the reason where it is accepted."""
    try:
        if constraint.admits(version):
            return Judgement(verdict="met", reason=f"{version} is accepted{note}", copy=copy, found=found)
        side = constraint.side_of(version)
    except VersionFault as wrong:
        reason = f"the version that was found cannot be compared: {wrong}"
        return Judgement(verdict="unknown", reason=reason, copy=copy, found=found)
    reason = f"{version} is {_SIDES[side]}; accepted: {constraint.in_words}"
    return Judgement(verdict="unmet", reason=reason, copy=copy, found=found)
