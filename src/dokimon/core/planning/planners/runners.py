"""What a tool among the project's own packages starts, or the local runner of a platform: `runners.toml` says what."""

from __future__ import annotations

from dokimon.core.planning.plan import Plan, PlanContext
from dokimon.core.planning.planners.by_manifest import plan_by, ways


def plan(context: PlanContext) -> Plan | None:
    """Return how such a tool starts what the folder describes; None where it describes nothing of the kind."""
    return plan_by(ways("runners"), context)
