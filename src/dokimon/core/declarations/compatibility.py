"""Which versions fit together although no file of a project says so: data, with its sources, in `compatibility.toml`."""

from __future__ import annotations

import tomllib
from functools import cache
from pathlib import Path
from typing import Any


@cache
def compatibility() -> dict[str, Any]:
    """Return the tables."""
    return tomllib.loads(Path(__file__).with_name("compatibility.toml").read_text("utf-8"))
