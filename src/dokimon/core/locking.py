"""A file that one process at a time may hold. The system lets go of it when its holder ends, however that is.

flock(2) alone: filelock takes 60 ms to load, as long as a tenth of a smoke check.
"""

from __future__ import annotations

import os
from pathlib import Path


def hold(path: Path) -> int | None:
    """Hold a file, which is made for this user alone; return the handle to let go of, or None where another holds it.

    Raises `OSError` where the file cannot be made. Children do not inherit the hold.
    """
    import fcntl

    handle = os.open(path, os.O_RDWR | os.O_CREAT | getattr(os, "O_CLOEXEC", 0), 0o600)
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        os.close(handle)
        return None
    return handle


def let_go(handle: int) -> None:
    """Let go of a file that is held."""
    os.close(handle)
