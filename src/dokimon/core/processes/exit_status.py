"""Exit statuses in words."""

from __future__ import annotations

import signal


def how_ended(status: int | None) -> str:
    """Return an exit status in words; a negative one is the signal that ended the process."""
    if status is None:
        return "ended"
    if status >= 0:
        return f"ended with exit status {status}"
    try:
        return f"was ended by {signal.Signals(-status).name}"
    except ValueError:
        return f"was ended by signal {-status}"
