"""What a project declares: a requirement and the place it stands at."""

from __future__ import annotations

from typing import Literal

import msgspec

from dokimon.core.versions import Constraint, VersionFault, compiled, in_words
from dokimon.core.versions.orders.java import JAVA

Kind = Literal["tool", "component", "variable", "path", "platform", "service", "fact"]


class Source(msgspec.Struct, frozen=True, omit_defaults=True, forbid_unknown_fields=True):
    """Where something is declared: the file (relative to the root, with `/`), the line (from 1), the quoted text."""

    file: str
    line: int
    text: str


class Requirement(msgspec.Struct, frozen=True):
    """Something a project needs.

    `tool` is the subject: the tool's name in the catalogue, or what a `variable`, `path`, `platform`, `service` or `fact`
    is called. `component` is the part of the tool that is meant (`ext-mbstring` of PHP). `constraint` is None when any
    version will do or when `fault` says why it could not be read. `strength` is `required` or `advised`; a `fact` is what
    the project has settled on and asks nothing of a machine. `part` is the folder, relative to the root, of the project
    that declares it. Of `alternatives`, one must be met.
    """

    tool: str
    wanted: str
    language: str
    source: Source
    strength: str = "required"
    constraint: Constraint | None = None
    fault: str | None = None
    why: str | None = None
    kind: Kind = "tool"
    component: str | None = None
    part: str = "."
    alternatives: tuple[Requirement, ...] = ()

    @property
    def subject(self) -> str:
        """How the requirement is called: the tool, and its component."""
        return f"{self.tool} {self.component}" if self.component else self.tool

    @property
    def accepts(self) -> str:
        """What is accepted, in words."""
        if self.alternatives:
            shown = (
                each.tool if each.accepts == "any version" else f"{each.tool} {each.accepts}"
                for each in self.alternatives
            )
            return " or ".join(shown)
        if self.constraint:
            return in_words(self.language, self.wanted, _ORDERS.get(self.tool))
        return "not known" if self.fault else self.wanted


_ORDERS = {"java": JAVA, "javac": JAVA}
"""Tools whose versions are not plain dotted ones, for the plain language."""


def requirement(
    tool: str,
    wanted: str,
    language: str,
    source: Source,
    *,
    strength: str = "required",
    why: str | None = None,
    component: str | None = None,
) -> Requirement:
    """Return the requirement, its constraint compiled; a constraint that its language does not allow is its fault."""
    try:
        constraint, fault = compiled(language, wanted, _ORDERS.get(tool)), None
    except VersionFault as wrong:
        constraint, fault = None, str(wrong)
    kind: Kind = "component" if component else "tool"
    return Requirement(tool, wanted, language, source, strength, constraint, fault, why, kind, component)


def any_version(
    tool: str,
    source: Source,
    why: str | None = None,
    *,
    strength: str = "required",
    component: str | None = None,
) -> Requirement:
    """Return the requirement that the tool (or its component) is there at all, as a manifest of its ecosystem implies."""
    kind: Kind = "component" if component else "tool"
    return Requirement(tool, "any version", "plain", source, strength, why=why, kind=kind, component=component)


def unreadable(tool: str, source: Source, reason: str) -> Requirement:
    """Return the requirement that a broken manifest leaves behind: what it wants of `tool` is not known."""
    return Requirement(tool, "?", "plain", source, fault=reason)


def platform_need(system: str, source: Source, why: str) -> Requirement:
    """Return the requirement that the project is run on one of these systems (`linux`, `macos`, `windows`)."""
    return Requirement("system", system, "plain", source, why=why, kind="platform")


def fact(name: str, value: str, source: Source) -> Requirement:
    """Return what the project has settled on: told, compared by checks, never judged against a machine."""
    return Requirement(name, value, "plain", source, strength="advised", kind="fact")


def brought(requirement: Requirement) -> Requirement:
    """Return what the project's own tools fetch by themselves as a fact: this machine need not have it."""
    return msgspec.structs.replace(requirement, kind="fact", strength="advised")
