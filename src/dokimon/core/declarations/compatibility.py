"""Which versions fit together although no file of a project says so: data, with its sources, in `compatibility.toml`."""

from __future__ import annotations

import re
import tomllib
from functools import cache
from pathlib import Path
from typing import Any


@cache
def compatibility() -> dict[str, Any]:
    """Return the tables."""
    return tomllib.loads(Path(__file__).with_name("compatibility.toml").read_text("utf-8"))


def row_of(table: str, version: str) -> dict[str, Any]:
    """Return the row of a table by versions (`from`) that a version falls into; an empty one where none does."""
    numbers = [int(each) for each in re.findall(r"\d{1,4}", version)[:3]]
    known = [row for row in compatibility()[table] if row["from"] <= numbers]
    return known[-1] if known else {}
