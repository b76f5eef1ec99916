"""An environment as somebody else's: an empty home, no variable that was set for this project, this machine's tools."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from pathlib import Path
from typing import Any


def _table() -> dict[str, Any]:
    return tomllib.loads(Path(__file__).with_name("clean_home.toml").read_text("utf-8"))


def clean_environment(environment: Mapping[str, str], home: Path, *, empty: bool) -> dict[str, str]:
    """Return the variables for tools whose home is the folder `home`.

    What version managers installed stays in reach; caches of package managers are shared, unless it is to be `empty`.
    """
    table = _table()
    kept, beginnings = frozenset(table["variables"]), tuple(table["beginnings"])
    found = {name: value for name, value in environment.items() if name in kept or name.startswith(beginnings)}
    found |= {"HOME": str(home), "XDG_CACHE_HOME": str(home / ".cache"), "XDG_CONFIG_HOME": str(home / ".config")}
    real = environment.get("HOME", "")
    shared = table["toolchains"] if empty else table["toolchains"] | table["caches"]
    for name, below in shared.items():
        place = environment.get(name) or (str(Path(real, below)) if real else "")
        if place and Path(place).is_dir():
            found[name] = place
    return found


def left_out(environment: Mapping[str, str], clean: Mapping[str, str]) -> frozenset[str]:
    """Return the names of the variables that somebody set and that a clone is not given."""
    return frozenset(name for name in environment if name not in clean)
