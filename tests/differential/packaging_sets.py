"""Answers pairs of a PEP 440 specifier set and a version with `packaging`, pre-releases counted as versions."""

import json
import sys

from packaging.specifiers import InvalidSpecifier, SpecifierSet
from packaging.version import InvalidVersion


def answer(constraint: str, version: str) -> bool | None:
    """Return whether the specifier set contains the version."""
    try:
        return SpecifierSet(constraint).contains(version, prereleases=True)
    except (InvalidSpecifier, InvalidVersion):
        return None


print(json.dumps([answer(constraint, version) for constraint, version in json.load(sys.stdin)]))
