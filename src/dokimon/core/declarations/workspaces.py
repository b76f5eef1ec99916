"""Workspaces: which folders the root of one takes in."""

from __future__ import annotations

from fnmatch import fnmatchcase


def is_member(inside: str, pattern: str) -> bool:
    """Whether a folder, relative to the root, is a member by a pattern: `packages/*`, `apps/**`, `board`."""
    pattern = pattern.removeprefix("./").rstrip("/")
    if pattern.endswith("/**"):
        above = pattern[:-3]
        return inside.startswith(f"{above}/") or fnmatchcase(inside, f"{above}/*")
    return fnmatchcase(inside, pattern) and inside.count("/") == pattern.count("/")
