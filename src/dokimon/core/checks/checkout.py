"""What a smoke check leaves in the checkout: files that git does not ignore and that are other than before."""

from __future__ import annotations

import fnmatch
from collections.abc import Mapping, Sequence
from pathlib import Path

from dokimon.core.checks.repository import RepositoryFault, differing
from dokimon.core.checks.scene import Scene
from dokimon.core.checks.wanted import Wanted
from dokimon.core.report.model import Check
from dokimon.core.text import clean

_MOST_TOLD = 5


class CleanCheckout(Wanted, frozen=True, kw_only=True):
    """`leaves = []`: patterns of the files that a smoke check may make or change in the repository; none here."""

    leaves: list[str] = []


def title(wanted: CleanCheckout) -> str:
    """Return what the check is called where nobody named it."""
    return "leaves the checkout as it was"


def check(wanted: CleanCheckout, scene: Scene) -> list[Check]:
    """Nothing can be said while a run is up: `compared` looks when all is over."""
    return []


def looked_at(root: Path, environment: Mapping[str, str]) -> dict[str, str] | str:
    """Return the files that differ from what is committed, or why nobody can tell."""
    try:
        return differing(root, environment)
    except RepositoryFault as fault:
        return str(fault)


def changed(before: dict[str, str] | str, after: dict[str, str] | str) -> tuple[str, ...]:
    """Return what was made or changed meanwhile, in order; nothing where nobody can tell."""
    if isinstance(before, str) or isinstance(after, str):
        return ()
    gone = {name for name in before if name not in after}
    return tuple(sorted(gone | {name for name, mark in after.items() if before.get(name) != mark}))


def compared(wanted: Sequence[CleanCheckout], before: dict[str, str] | str, after: dict[str, str] | str) -> list[Check]:
    """Hold what was changed against what may be changed."""
    if not wanted:
        return []
    allowed = [pattern for each in wanted for pattern in each.leaves]
    expected = clean("nothing new but " + ", ".join(allowed) if allowed else "nothing new")
    name = wanted[0].name or title(wanted[0])
    for state in (before, after):
        if isinstance(state, str):
            return [Check(name, "unsure", expected, clean(state), kind="checkout")]
    found = [each for each in changed(before, after) if not any(fnmatch.fnmatchcase(each, one) for one in allowed)]
    if not found:
        return [Check(name, "passed", expected, "nothing new", kind="checkout")]
    more = f" and {len(found) - _MOST_TOLD} more" if len(found) > _MOST_TOLD else ""
    seen = f"made or changed: {', '.join(found[:_MOST_TOLD])}{more}"
    return [Check(name, "failed", expected, clean(seen), kind="checkout")]
