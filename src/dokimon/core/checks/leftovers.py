"""What a smoke check leaves in the checkout: files that git does not ignore and that are other than before."""

from __future__ import annotations

import fnmatch
from collections import Counter
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import ClassVar

from dokimon.core.checks.repository import RepositoryFault, differing
from dokimon.core.checks.spec import CheckSpec
from dokimon.core.report.model import Check
from dokimon.core.text import clean

_MOST_SHOWN = 5


class CleanCheckout(CheckSpec, frozen=True, kw_only=True):
    """`leaves = []`: patterns of the files that a smoke check may make or change in the repository; none here."""

    kind_name: ClassVar[str] = "checkout"
    after_all: ClassVar[bool] = True

    leaves: list[str] = []

    @property
    def default_name(self) -> str:
        """The name of the check where the project gives it none."""
        return "leaves the checkout as it was"

    def look_after(self, before: dict[str, str] | str, after: dict[str, str] | str) -> list[Check]:
        """Compare what was changed with what may be changed."""
        return _look_after(self, before, after)


def state_of(root: Path, environment: Mapping[str, str]) -> dict[str, str] | str:
    """Return the files that differ from what is committed, or why that is not known."""
    try:
        return differing(root, environment)
    except RepositoryFault as fault:
        return str(fault)


def changed(before: dict[str, str] | str, after: dict[str, str] | str) -> tuple[str, ...]:
    """Return what was made or changed meanwhile, in order; nothing where that is not known."""
    if isinstance(before, str) or isinstance(after, str):
        return ()
    gone = {name for name in before if name not in after}
    return tuple(sorted(gone | {name for name, mark in after.items() if before.get(name) != mark}))


_MANY = 20


def in_short(names: Sequence[str]) -> tuple[str, ...]:
    """Return names of files with the many in one folder at the top of the checkout as one: `node_modules (9,870 files)`."""
    count = Counter(name.partition("/")[0] for name in names if "/" in name)
    shown = [
        f"{top} ({count[top]:,} files)" if count[top := name.partition("/")[0]] > _MANY else name for name in names
    ]
    return tuple(dict.fromkeys(shown))


def _look_after(spec: CleanCheckout, before: dict[str, str] | str, after: dict[str, str] | str) -> list[Check]:
    expected = clean("nothing new but " + ", ".join(spec.leaves) if spec.leaves else "nothing new")
    name, kind = spec.name or spec.default_name, spec.kind_name
    for state in (before, after):
        if isinstance(state, str):
            return [Check(name=name, verdict="unsure", expected=expected, seen=clean(state), kind=kind)]
    allowed = spec.leaves
    found = [each for each in changed(before, after) if not any(fnmatch.fnmatchcase(each, one) for one in allowed)]
    if not found:
        return [Check(name=name, verdict="passed", expected=expected, seen="nothing new", kind=kind)]
    found = list(in_short(found))
    more = f" and {len(found) - _MOST_SHOWN} more" if len(found) > _MOST_SHOWN else ""
    seen = clean(f"made or changed: {', '.join(found[:_MOST_SHOWN])}{more}")
    return [Check(name=name, verdict="failed", expected=expected, seen=seen, kind=kind)]
