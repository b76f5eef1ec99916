"""Whether the declarations can all be true: for each tool their agreement, or the smallest set that contradicts itself."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import combinations

import msgspec

from dokimon.core.declarations.checkout import SETTINGS_FILE
from dokimon.core.declarations.requirement import Requirement
from dokimon.core.judging.scopes import Scopes, is_below, place_of
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
    line that does, where the catalogue knows the lines of the tool. `places` are the folders for which it holds, where
    declarations of several folders need different versions; empty where it holds for all of them.
    """

    subject: str
    tool: str
    members: tuple[int, ...]
    versions: VersionSet
    between: tuple[int, ...] = ()
    lowest: str | None = None
    newest: str | None = None
    places: tuple[str, ...] = ()


class Drift(msgspec.Struct, frozen=True):
    """Advice (by index) that names versions of which the agreement accepts none."""

    advice: int
    agreement: Agreement


def agreements(requirements: Sequence[Requirement], catalogue: Catalogue) -> list[Agreement]:
    """Return an agreement for each subject of which some version is declared as required, in the order of first mention.

    Where no version meets all declarations of a subject, there is one for each group that governs a place together:
    what lives in independent folders needs different versions side by side.
    """
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
            key_of_set = f"{each.label} {each.wanted}" if getattr(each.subject, "beside", False) else each.label
            sets.setdefault(key_of_set, []).append((index, common))
    scopes = Scopes(requirements)
    return [
        each
        for members in sets.values()
        for each in _by_place(requirements, requirements[members[0][0]].label, members, catalogue, scopes)
    ]


def _by_place(
    requirements: Sequence[Requirement],
    subject: str,
    members: list[tuple[int, VersionSet]],
    catalogue: Catalogue,
    scopes: Scopes,
) -> list[Agreement]:
    whole = _agreement(requirements, subject, members, catalogue)
    if whole.versions:
        return [whole]
    by_index = dict(members)
    groups = scopes.groups([index for index, _ in members])
    if len(groups) == 1:
        return [whole]
    found: list[Agreement] = []
    for places, together in groups:
        made = _agreement(requirements, subject, [(index, by_index[index]) for index in together], catalogue)
        if made.between and made.between in [each.between for each in found]:
            continue
        found.append(msgspec.structs.replace(made, places=tuple(places)))
    return found


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
    by_subject: dict[str, list[Agreement]] = {}
    for agreement in found:
        if agreement.versions:
            by_subject.setdefault(agreement.subject, []).append(agreement)
    drifted = []
    scopes: Scopes | None = None
    for index, each in enumerate(requirements):
        # What dokimon.toml advises was put there on purpose; only what nobody looks after can drift.
        watched = each.strength == "required" or each.subject.kind == "fact" or each.source.file == SETTINGS_FILE
        place = place_of(each)
        near = [] if watched else [one for one in by_subject.get(each.label, ()) if _speaks_of(place, one)]
        if not near or not each.constraint:
            continue
        advised = in_common(each.constraint)
        if advised is None or any(advised & one.versions for one in near):
            continue
        scopes = scopes or Scopes(requirements)
        here = _in_force(requirements, near, scopes, place)
        if here and not any(advised & one.versions for one in here):
            drifted.append(Drift(index, here[0]))
    return drifted


def _in_force(
    requirements: Sequence[Requirement], near: list[Agreement], scopes: Scopes, place: str
) -> list[Agreement]:
    """Return what holds in the folder of which advice speaks, and in those below it: each with its own members."""
    found: dict[tuple[int, ...], Agreement] = {}
    for agreement in near:
        below = {scopes.place(index) for index in agreement.members}
        for each in [place, *sorted(one for one in below if one != place and is_below(one, place))]:
            members = tuple(index for index in agreement.members if scopes.governs(index, each))
            sets = [(index, common) for index in members if (common := _common(requirements[index]))]
            if sets and members not in found and (joined := _joined(sets)):
                found[members] = msgspec.structs.replace(agreement, members=members, versions=joined)
    return list(found.values())


def _common(need: Requirement) -> VersionSet | None:
    return in_common(need.constraint) if need.constraint else None


def _speaks_of(place: str, agreement: Agreement) -> bool:
    """Whether advice in a folder is about what an agreement holds for: the same folder, one below it or one above it."""
    return not agreement.places or any(is_below(each, place) or is_below(place, each) for each in agreement.places)


def drift_in_words(requirements: Sequence[Requirement], drift: Drift) -> str:
    """Say which advice names what, and what is declared."""
    each = requirements[drift.advice]
    why = f" ({each.why})" if each.why else ""
    return (
        f"{each.source.place} names {each.label} {each.accepts}{why}, "
        f"but the declarations accept {describe(drift.agreement.versions)}"
    )
