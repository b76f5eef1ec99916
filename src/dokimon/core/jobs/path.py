"""`dokimon path`: which folders to put first on PATH for the checkout that was verified."""

from __future__ import annotations

from dokimon.core.jobs.verify import Verified
from dokimon.core.judging.routing import Route, folders_first


def route_of(verified: Verified) -> Route:
    """Return the folders of satisfying copies, and the tools that have none."""
    return folders_first(verified.declared.requirements, verified.installations)
