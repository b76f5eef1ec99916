"""Whether the declarations can all be true: for each tool their agreement, or the smallest set that contradicts itself."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import combinations

import msgspec

from dokimon.core.declarations.checkout import SETTINGS_FILE
from dokimon.core.declarations.requirement import Requirement
from dokimon.core.machine.catalogue import Catalogue, ReleaseLines
from dokimon.core.versions.common import in_common
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.orders.dotted import DOTTED
from dokimon.core.versions.sets import ALL, VersionSet, describe

_MOST_TRIED = 12
"""Different sets of which all groups are tried; beyond that, one is found by leaving out what is not needed."""


class Agreement(msgspec.Struct, frozen=True, kw_only=True):
    """What all required declarations of a subject accept together, of those whose constraint can be read.

    `members` are the indices of the requirements that took part. Where `versions` is empty, `between` are those of the
    smallest group that contradicts itself. `lowest` is the oldest version that meets them all, `newest` the newest
    line that does, where the catalogue knows the lines of the tool.
    """

    subject: str
    tool: str
    members: tuple[int, ...]
    versions: VersionSet
    between: tuple[int, ...] = ()
    lowest: str | None = None
    newest: str | None = None


class Drift(msgspec.Struct, frozen=True):
    """Advice (by index) that names versions of which the agreement accepts none."""

    advice: int
    agreement: Agreement


def agreements(requirements: Sequence[Requirement], catalogue: Catalogue) -> list[Agreement]:
    """Return an agreement for each subject of which some version is declared as required, in the order of first mention."""
    sets: dict[str, list[tuple[int, VersionSet]]] = {}
    known: dict[int, VersionSet | None] = {}  # by identity: a large checkout shares its few compiled constraints
    for index, each in enumerate(requirements):
        is_required = each.strength == "required" and each.subject.kind in ("tool", "component")
        if not is_required or not each.constraint:
            continue
        key = id(each.constraint)
        if key not in known:
            known[key] = in_common(each.constraint)
        common = known[key]
        if common is not None:
            sets.setdefault(each.label, []).append((index, common))
    return [_agreement(requirements, label, members, catalogue) for label, members in sets.items()]


def _agreement(
    requirements: Sequence[Requirement], subject: str, members: list[tuple[int, VersionSet]], catalogue: Catalogue
) -> Agreement:
    joined = _joined(members)
    first = requirements[members[0][0]]
    indices = tuple(index for index, _ in members)
    if not joined:
        between = _smallest_contradiction(members)
        return Agreement(subject=subject, tool=first.tool, members=indices, versions=joined, between=between)
    low = joined.intervals[0].low
    return Agreement(
        subject=subject,
        tool=first.tool,
        members=indices,
        versions=joined,
        lowest=None if low.rank else low.label,
        newest=None if first.component else _newest_line(first.tool, joined, catalogue),
    )


def _smallest_contradiction(members: list[tuple[int, VersionSet]]) -> tuple[int, ...]:
    """Return the smallest group without a common version; of equal sets, the one that is declared first stands for all."""
    different: dict[VersionSet, int] = {}
    for index, versions in members:
        different.setdefault(versions, index)
    pairs = [(index, versions) for versions, index in different.items()]
    if len(pairs) <= _MOST_TRIED:
        for size in range(1, len(pairs) + 1):
            for group in combinations(pairs, size):
                if not _joined(group):
                    return tuple(index for index, _ in group)
    for pair in list(pairs):
        rest = [each for each in pairs if each is not pair]
        if not _joined(rest):
            pairs = rest
    return tuple(index for index, _ in pairs)


def _joined(group: Sequence[tuple[int, VersionSet]]) -> VersionSet:
    joined = ALL
    for versions in {id(versions): versions for _, versions in group}.values():
        joined &= versions
    return joined


def _newest_line(tool: str, versions: VersionSet, catalogue: Catalogue) -> str | None:
    entry = catalogue.find(tool)
    return newest_line(entry.lines, versions) if entry and entry.lines else None


def newest_line(lines: ReleaseLines, versions: VersionSet) -> str | None:
    """Return the newest maintained line of which `versions`, in the dotted order, holds some; None where it holds none."""
    for line in reversed(lines.maintained):
        # Some version of the line, its newest for one, must be accepted.
        try:
            numbers = DOTTED.key(line)[0]
        except VersionFault:
            continue
        newest = ((*numbers, 99, 99), 0, ())
        if newest in versions or DOTTED.key(line) in versions:
            return line
    return None


def contradiction_in_words(requirements: Sequence[Requirement], agreement: Agreement) -> str:
    """Say what contradicts what, each with its place: a version file picks one, another declaration does not accept it."""
    parts = []
    for index in agreement.between:
        each = requirements[index]
        parts.append(f"{each.source.place} accepts {each.accepts}")
    return "; ".join(parts) + ": no version is accepted by all of them" if len(parts) > 1 else parts[0]


def drifts(requirements: Sequence[Requirement], found: Sequence[Agreement]) -> list[Drift]:
    """Return the advice that has drifted from the declarations: none of its versions is accepted by them."""
    by_subject = {agreement.subject: agreement for agreement in found if agreement.versions}
    drifted = []
    for index, each in enumerate(requirements):
        # What dokimon.toml advises was put there on purpose; only what nobody looks after can drift.
        watched = each.strength == "required" or each.subject.kind == "fact" or each.source.file == SETTINGS_FILE
        agreement = None if watched else by_subject.get(each.label)
        if not agreement or not each.constraint:
            continue
        advised = in_common(each.constraint)
        if advised is not None and not advised & agreement.versions:
            drifted.append(Drift(index, agreement))
    return drifted


def drift_in_words(requirements: Sequence[Requirement], drift: Drift) -> str:
    """Say which advice names what, and what is declared."""
    each = requirements[drift.advice]
    why = f" ({each.why})" if each.why else ""
    return (
        f"{each.source.place} names {each.label} {each.accepts}{why}, "
        f"but the declarations accept {describe(drift.agreement.versions)}"
    )
