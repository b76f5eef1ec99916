"""How a program ended: its exit status, and what it printed."""

from __future__ import annotations

from dokimon.core.launching.output import Output
from dokimon.core.launching.tree import how_ended
from dokimon.core.planning.plan import EndCheck
from dokimon.core.report.model import Check
from dokimon.core.text import clean


def check_ending(wanted: EndCheck, status: int | None, seconds: float, output: Output) -> tuple[Check, ...]:
    """Hold a program's end against what is wanted of it."""
    right = status == wanted.exit
    checks = [
        Check(
            "ends",
            "passed" if right else "failed",
            f"exit status {wanted.exit}",
            how_ended(status),
            round(seconds, 3),
        )
    ]
    for text in wanted.prints:
        shown = output.holds(text)
        seen = f"“{shown}”" if shown else f"not in the {output.count} lines that it printed"
        checks.append(Check("prints", "passed" if shown else "failed", f"“{clean(text)}”", clean(seen)))
    return tuple(checks)
