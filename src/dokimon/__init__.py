"""Is this machine fit for a checkout, and does the project start here? See docs/api.md for the library's face."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from dokimon.core.version import __version__

if TYPE_CHECKING:
    from dokimon import faults
    from dokimon.api import needs, plan, running, smoke, tools, verify
    from dokimon.core.report.model import Report

__all__ = ["Report", "__version__", "faults", "needs", "plan", "running", "smoke", "tools", "verify"]


def __getattr__(name: str) -> Any:
    """Load the library when something of it is first used: the program's start-up needs none of it."""
    if name not in __all__:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    from importlib import import_module

    if name == "faults":
        return import_module("dokimon.faults")
    return getattr(import_module("dokimon.api"), name)


def __dir__() -> list[str]:
    return sorted([*globals(), *__all__])
