"""Looking with a helper in a process of its own: a browser or a display that hangs or dies does not take Dokimon with it."""

from __future__ import annotations

import json
import sys
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from dokimon.core.checks.context import CheckContext
from dokimon.core.faults import Fault


class HelperFault(Fault):
    """The helper gave no answer; the text says why."""


def command_of(module: str, wish: Mapping[str, Any]) -> list[str]:
    """Return the command that starts a helper of this package with its wish."""
    # Isolated (-I), so that no module of the checkout is taken for one of ours.
    return [sys.executable, "-I", "-m", f"dokimon.core.checks.{module}", json.dumps(wish)]


def ask(module: str, wish: Mapping[str, Any], context: CheckContext, within: float, **variables: str) -> dict[str, Any]:
    """Run a helper to its end and return the object of JSON that it writes; raises `HelperFault`."""
    from dokimon.core.processes.output import Output
    from dokimon.core.processes.to_end import run_to_end
    from dokimon.core.processes.tree import StartFault

    output = Output()
    root = Path(context.root.anchor)
    try:
        end = run_to_end(
            command_of(module, wish), root, {**context.environment, **variables}, output, within, context.halt
        )
    except StartFault as fault:
        raise HelperFault(str(fault)) from None
    lines = said(output.text())
    if not lines:
        raise HelperFault(f"the helper {end.reason}")
    seen: dict[str, Any] = json.loads(lines[-1])
    return seen


def said(text: str) -> list[str]:
    """Return the lines of what a helper printed that are objects of JSON."""
    return [line for line in text.splitlines() if line.startswith("{")]
