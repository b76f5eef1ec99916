"""The machine by itself: what `dokimon tools` tells."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path

from dokimon.core.declarations.checkout import find_checkout
from dokimon.core.machine.catalogue import known_tools
from dokimon.core.machine.survey import survey
from dokimon.core.report.model import FORMAT, Project, Report
from dokimon.core.text import clean

__all__ = ["known_tools", "tools_report"]


def tools_report(names: Iterable[str], environment: Mapping[str, str]) -> Report:
    """Return the report of `dokimon tools`: the copies of each tool, asked in the folder one stands in.

    Nothing that lies in the checkout around that folder is run.
    """
    here = Path.cwd()
    checkout = find_checkout(here)
    found = survey(names, here, checkout.root, environment)
    return Report(
        format=FORMAT,
        command="tools",
        verdict="met",
        project=Project(clean(str(checkout.root)), clean(checkout.root.name or str(checkout.root), 80)),
        requirements=(),
        installations=tuple(copy for copies in found.values() for copy in copies),
    )
