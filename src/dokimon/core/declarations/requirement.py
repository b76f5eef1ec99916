"""What a project declares: a requirement and the place it stands at."""

from __future__ import annotations

import msgspec

from dokimon.core.versions import Constraint, VersionFault, compiled


class Source(msgspec.Struct, frozen=True, omit_defaults=True, forbid_unknown_fields=True):
    """Where something is declared: the file (relative to the root, with `/`), the line (from 1), the quoted text."""

    file: str
    line: int
    text: str


class Requirement(msgspec.Struct, frozen=True):
    """Something a project needs.

    `constraint` is None when any version will do or when `fault` says why it could not be read. `strength` is
    `required` or `advised`.
    """

    tool: str
    wanted: str
    language: str
    source: Source
    strength: str = "required"
    constraint: Constraint | None = None
    fault: str | None = None
    why: str | None = None


def requirement(tool: str, wanted: str, language: str, source: Source, **more: str | None) -> Requirement:
    """Return the requirement, its constraint compiled; a constraint that its language does not allow is its fault."""
    strength, why = more.get("strength") or "required", more.get("why")
    try:
        constraint, fault = compiled(language, wanted), None
    except VersionFault as wrong:
        constraint, fault = None, str(wrong)
    return Requirement(tool, wanted, language, source, strength, constraint, fault, why)


def any_version(tool: str, source: Source, why: str | None = None) -> Requirement:
    """Return the requirement that the tool is there at all, as a manifest of its ecosystem implies."""
    return Requirement(tool, "any version", "plain", source, why=why)


def unreadable(tool: str, source: Source, reason: str) -> Requirement:
    """Return the requirement that a broken manifest leaves behind: what it wants of `tool` is not known."""
    return Requirement(tool, "?", "plain", source, fault=reason)
