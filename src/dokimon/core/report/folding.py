"""Equal findings of several parts shown once, with their count."""

from __future__ import annotations

from collections.abc import Iterable

import msgspec

from dokimon.core.machine.survey import Installation
from dokimon.core.report.model import Finding


class Folded(msgspec.Struct, frozen=True):
    """A finding that represents itself and `more` others declared elsewhere.

    They are equal, or, where `ranges` is more than one, so many different ranges of one tool that are all met.
    """

    finding: Finding
    more: int
    ranges: int = 1


def fold(findings: Iterable[Finding]) -> list[Folded]:
    """Return the findings in order of first mention, those that say the same of the same subject once."""
    groups: dict[tuple[object, ...], list[Finding]] = {}
    for each in findings:
        key = (each.kind, each.tool, each.component, each.wanted, each.language, each.strength, each.verdict, each.why)
        groups.setdefault(key, []).append(each)
    return [Folded(group[0], len(group) - 1) for group in groups.values()]


def fold_met(findings: Iterable[Finding]) -> list[Folded]:
    """Return the same, and met advice on one tool from one file (ranges of locked packages, say) in one row too."""
    groups: dict[object, list[Folded]] = {}
    for index, each in enumerate(fold(findings)):
        finding = each.finding
        may = finding.verdict == "met" and finding.strength == "advised" and finding.kind == "tool"
        groups.setdefault((finding.tool, finding.source.file) if may else index, []).append(each)
    return [
        Folded(group[0].finding, sum(each.more + 1 for each in group) - 1, ranges=len(group))
        for group in groups.values()
    ]


def standing(copy: Installation) -> str:
    """Return how a copy is reached, in a word or two."""
    if copy.reached:
        return "reached"
    if copy.own:
        return "the project's own"
    if copy.other_name:
        return f"as {copy.other_name}"
    return "off PATH" if copy.off_path else "shadowed"


def subject_of(finding: Finding) -> str:
    """Return how a finding's subject is called: the tool, and its component."""
    return f"{finding.tool} {finding.component}" if finding.component and finding.kind == "component" else finding.tool
