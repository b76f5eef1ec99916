"""What a project declares: a requirement, and the ways to make one."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from typing import ClassVar, Literal

import msgspec

from dokimon.core.declarations.subjects import (
    AnySubject,
    ComponentSubject,
    FactSubject,
    Kind,
    PathSubject,
    PlatformSubject,
    ServiceSubject,
    SizeSubject,
    ToolSubject,
    VariableSubject,
)
from dokimon.core.measures import bytes_of
from dokimon.core.source import Source
from dokimon.core.text import clean
from dokimon.core.versions import LONGEST, compiled, in_words
from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.orders.java import JAVA

Strength = Literal["required", "advised"]


class ChoiceSubject(AnySubject, frozen=True):
    """Several requirements, of which one must be met; `name` says what they are together ("C compiler")."""

    kind: ClassVar[Kind] = "tool"
    choices: tuple[Requirement, ...]
    name: str | None = None

    @property
    def label(self) -> str:
        """The subject in a few words."""
        return self.name or " or ".join(each.tool for each in self.choices)


Subject = (
    ToolSubject
    | ComponentSubject
    | VariableSubject
    | PathSubject
    | PlatformSubject
    | SizeSubject
    | ServiceSubject
    | ChoiceSubject
    | FactSubject
)


class Requirement(msgspec.Struct, frozen=True, kw_only=True):
    """Something a project needs.

    `wanted` is what is written, in the constraint language `language`. `constraint` is None when any version will do, or
    when `fault` says why it could not be read; `fault_at` is the place in `wanted` (in characters, from 0) where reading
    stopped. `part` is the folder, relative to the root, of the project that declares it, `family` the ecosystem of the file,
    `covers` are patterns of folders below that a workspace takes in. `container` is the entry of a compose file (its source)
    that starts the service. `why` is the reason that the project gives, or that
    its kind of file implies.
    """

    subject: Subject
    wanted: str
    language: str
    source: Source
    strength: Strength = "required"
    constraint: Constraint | None = None
    fault: str | None = None
    fault_at: int | None = None
    why: str | None = None
    part: str = "."
    family: str = ""
    covers: tuple[str, ...] = ()
    container: str | None = None

    @property
    def label(self) -> str:
        """The subject in a few words."""
        return self.subject.label

    @property
    def tool(self) -> str:
        """The tool or service; of any other subject its label."""
        return self.subject.tool

    @property
    def component(self) -> str | None:
        """The part of the tool, or None."""
        return self.subject.component

    @property
    def choices(self) -> tuple[Requirement, ...]:
        """The requirements of which one must be met: this one itself, where there is no choice."""
        return self.subject.choices if isinstance(self.subject, ChoiceSubject) else (self,)

    def admits(self, version: str) -> bool:
        """Whether a version will do; one that cannot be read will not."""
        try:
            return self.constraint is None or self.constraint.admits(version)
        except VersionFault:
            return False

    @property
    def accepts(self) -> str:
        """What is accepted, in words."""
        if isinstance(self.subject, ChoiceSubject):
            return " or ".join(
                each.tool if each.accepts == ANY_VERSION else f"{each.tool} {each.accepts}" for each in self.choices
            )
        if self.constraint:
            return clean(in_words(self.language, self.constraint.text, _ORDERS.get(self.tool)))
        return "not known" if self.fault else self.wanted


ANY_VERSION = "any version"
_LONGEST_NAME = 100

_ORDERS = {"java": JAVA, "javac": JAVA}
"""Tools whose versions are not plain dotted ones, for the plain language."""


def requirement(
    tool: str,
    wanted: str,
    language: str,
    source: Source,
    *,
    strength: Strength = "required",
    why: str | None = None,
    component: str | None = None,
) -> Requirement:
    """Return a need of versions of a tool (or component); a constraint that its language does not allow is its fault."""
    subject, shown, constraint, fault, fault_at = _read(tool, component, wanted, language)
    return Requirement(
        subject=subject, wanted=shown, language=language, source=source, strength=strength,
        constraint=constraint, fault=fault, fault_at=fault_at, why=_why(why),
    )  # fmt: skip


@lru_cache(maxsize=4096)
def _read(
    tool: str, component: str | None, wanted: str, language: str
) -> tuple[Subject, str, Constraint | None, str | None, int | None]:
    """Return what a need is of, and its constraint as shown and as compiled, with its fault: many say the same."""
    constraint, fault, fault_at = None, None, None
    shown = clean(wanted, LONGEST)
    try:
        constraint = compiled(language, wanted, _ORDERS.get(tool))
    except VersionFault as wrong:
        fault, fault_at = clean(str(wrong)), wrong.position if wrong.text == shown else None
    return _tool_or_component(tool, component), shown, constraint, fault, fault_at


def any_version(
    tool: str,
    source: Source,
    why: str | None = None,
    *,
    strength: Strength = "required",
    component: str | None = None,
) -> Requirement:
    """Return the need that the tool (or its component) is there at all, as a manifest of its ecosystem implies."""
    subject = _tool_or_component(tool, component)
    return _plain(subject, ANY_VERSION, source, why, strength)


def unreadable(tool: str, source: Source, reason: str, component: str | None = None) -> Requirement:
    """Return the need that a broken manifest leaves behind: what it wants of `tool` is not known."""
    subject = _tool_or_component(tool, component)
    return Requirement(subject=subject, wanted="?", language="plain", source=source, fault=clean(reason))


def either(
    choices: Sequence[Requirement], source: Source, why: str | None = None, name: str | None = None
) -> Requirement:
    """Return the need that one of several requirements is met."""
    return _plain(ChoiceSubject(tuple(choices), name), ANY_VERSION, source, why)


def variable_need(name: str, source: Source) -> Requirement:
    """Return the need that an environment variable is set."""
    return _plain(VariableSubject(name), "is set", source)


def path_need(path: str, source: Source, why: str | None = None) -> Requirement:
    """Return the need that something is there in the file system."""
    return _plain(PathSubject(clean(path, 1000)), "is there", source, why)


def platform_need(
    names: Sequence[str], source: Source, why: str | None = None, axis: Literal["system", "architecture"] = "system"
) -> Requirement:
    """Return the need of one of these systems (`linux`, `macos`, `windows`) or architectures; `!name` refuses one."""
    names = [clean(name, _LONGEST_NAME) for name in names]
    accepted = tuple(name for name in names if not name.startswith("!"))
    refused = tuple(name[1:] for name in names if name.startswith("!"))
    return _plain(PlatformSubject(axis, accepted, refused), " ".join(names), source, why)


def size_need(what: Literal["memory", "disk"], size: str, source: Source) -> Requirement:
    """Return the need of so much memory or free disk (`4 GB`); raises `ValueError` for anything that is not a size."""
    return _plain(SizeSubject(what, bytes_of(size)), f"at least {size}", source)


def service_need(name: str, version: str | None, host: str, port: int, source: Source) -> Requirement:
    """Return the need of a service that listens, of any version or of those that `version` (plain language) accepts."""
    subject = ServiceSubject(name, host, port)
    if version is None:
        return _plain(subject, f"listens on {host} port {port}", source)
    return msgspec.structs.replace(requirement(name, version, "plain", source), subject=subject)


def fact(name: str, value: str, source: Source) -> Requirement:
    """Return what the project has settled on."""
    return _plain(FactSubject(clean(name, _LONGEST_NAME)), value, source, strength="advised")


def brought(need: Requirement) -> Requirement:
    """Return what the project's own tools fetch by themselves as a fact: this machine need not have it."""
    return msgspec.structs.replace(need, subject=FactSubject(need.tool, need.component), strength="advised")


def beside_others(need: Requirement) -> Requirement:
    """Return a need of a component of which several versions live side by side."""
    assert isinstance(need.subject, ComponentSubject)
    return msgspec.structs.replace(need, subject=msgspec.structs.replace(need.subject, beside=True))


def _tool_or_component(tool: str, component: str | None) -> Subject:
    named = clean(tool, _LONGEST_NAME)
    return ComponentSubject(named, clean(component, _LONGEST_NAME)) if component else ToolSubject(named)


def _plain(
    subject: Subject, wanted: str, source: Source, why: str | None = None, strength: Strength = "required"
) -> Requirement:
    return Requirement(
        subject=subject,
        wanted=clean(wanted, LONGEST),
        language="plain",
        source=source,
        strength=strength,
        why=_why(why),
    )


def _why(reason: str | None) -> str | None:
    return clean(reason, 200) if reason else None
