"""Functions and workers that a platform runs, started by its local runner: `functions.toml` says by which."""

from __future__ import annotations

from dokimon.core.planning.plan import Plan, PlanContext
from dokimon.core.planning.planners.by_manifest import plan_by, ways


def plan(context: PlanContext) -> Plan | None:
    """Return how the local runner of a platform starts what the folder describes; None where it describes nothing."""
    return plan_by(ways("functions"), context)
