"""Answers pairs of a constraint and a version with poetry-core."""

import json
import sys

from poetry.core.constraints.version import Version, parse_constraint
from poetry.core.constraints.version.exceptions import ParseConstraintError


def answer(constraint: str, version: str) -> bool | None:
    """Return whether poetry-core lets the version pass."""
    try:
        return bool(parse_constraint(constraint).allows(Version.parse(version)))
    except (ParseConstraintError, ValueError):
        return None


print(json.dumps([answer(constraint, version) for constraint, version in json.load(sys.stdin)]))
