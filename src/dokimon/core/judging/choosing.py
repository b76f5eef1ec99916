"""Which copies of a tool, that no command reaches now, would do if their folders came first on PATH."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from pathlib import Path

from dokimon.core.machine.survey import Installation
from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.faults import VersionFault

Copies = Mapping[str, Sequence[Installation]]
Needed = Mapping[str, Sequence[Constraint]]


def accepted(copy: Installation, constraints: Sequence[Constraint]) -> bool:
    """Whether the copy can be run and all constraints admit its version."""
    return copy.fault is None and all(_admits(each, copy.version) for each in constraints)


def would_do(tool: str, copies: Copies, needed: Needed, more: Sequence[Constraint] = ()) -> list[Installation]:
    """Return the copies of `tool` that `needed` and `more` accept and that could be put first, the best in front.

    Behind the others come those whose folder also holds a copy of another tool that is not accepted (putting it first
    would mend one need and break another), and last what only another name reaches: no folder puts that first.
    """
    constraints = [*needed.get(tool, ()), *more]
    fitting = [
        copy
        for copy in copies.get(tool, ())
        if not copy.reached and not copy.own and not _is_for_another_machine(copy) and accepted(copy, constraints)
    ]
    return sorted(fitting, key=lambda copy: (copy.other_name is not None, bool(spoils(copy, copies, needed))))


def _is_for_another_machine(copy: Installation) -> bool:
    """Whether a copy goes by a name that says more than a version: a compiler for another machine (`arm-none-eabi-gcc`)."""
    return copy.other_name is not None and not re.fullmatch(r"[A-Za-z+]+[\d+]*-?v?\d*(?:\.\d+)*", copy.other_name)


def spoils(copy: Installation, copies: Copies, needed: Needed) -> list[str]:
    """Return the other tools of which the wrong copy would be reached if the folder of `copy` came first."""
    folder = Path(copy.program).parent
    return [
        tool
        for tool, constraints in needed.items()
        if tool != copy.tool
        and any(
            Path(each.program).parent == folder and not accepted(each, constraints) for each in copies.get(tool, ())
        )
    ]


def _admits(constraint: Constraint, version: str | None) -> bool:
    try:
        return version is not None and constraint.admits(version)
    except VersionFault:
        return False
