"""The environment in which strangers' projects are carried out: this machine's tools, a home of its own."""

import os
import sys
from pathlib import Path


def environment_of(home: str) -> dict[str, str]:
    """Return this environment with another home; toolchains that lie in the home stay where they are."""
    kept = {key: value for key, value in os.environ.items() if not key.startswith(("DOKIMON_", "VIRTUAL_ENV"))}
    for tool in ("rustup", "cargo"):
        kept.setdefault(f"{tool.upper()}_HOME", str(Path.home() / f".{tool}"))
    homes = {"HOME": home, "XDG_CACHE_HOME": f"{home}/cache", "XDG_STATE_HOME": f"{home}/state"}
    return {**kept, **homes, "PATH": f"{Path(sys.executable).resolve().parent}:{os.environ['PATH']}"}
