"""The subject of a requirement: one type for each kind of subject, so that judging can match on them."""

from __future__ import annotations

from typing import ClassVar, Literal

import msgspec

Kind = Literal["tool", "component", "variable", "path", "platform", "service", "fact"]
"""The kinds of subject as the report names them."""


class AnySubject(msgspec.Struct, frozen=True):
    """What every subject answers."""

    @property
    def label(self) -> str:
        """The subject in a few words."""
        raise NotImplementedError

    @property
    def tool(self) -> str:
        """The tool or service; of any other subject its label."""
        return self.label

    @property
    def component(self) -> str | None:
        """The part of the tool, or None."""
        return None


class ToolSubject(AnySubject, frozen=True):
    """A tool, by its name in the catalogue; of an unknown one its command."""

    kind: ClassVar[Kind] = "tool"
    tool: str

    @property
    def label(self) -> str:
        """The tool."""
        return self.tool


class ComponentSubject(AnySubject, frozen=True):
    """A part of a tool: `ext-mbstring` of PHP, `sdk` of .NET.

    With `beside`, other versions of it live beside this one, so that two needs of it never contradict each other. The
    component `toolchain` is a copy of the tool itself, whether a command reaches it or not.
    """

    kind: ClassVar[Kind] = "component"
    tool: str
    component: str
    beside: bool = False

    @property
    def label(self) -> str:
        """The tool and the part."""
        return f"{self.tool} {self.component}"


class VariableSubject(AnySubject, frozen=True):
    """An environment variable that must be set."""

    kind: ClassVar[Kind] = "variable"
    name: str

    @property
    def label(self) -> str:
        """The subject in a few words."""
        return self.name


class PathSubject(AnySubject, frozen=True):
    """A file or folder that must be there: relative to the root of the checkout, absolute, or below `~`."""

    kind: ClassVar[Kind] = "path"
    path: str

    @property
    def label(self) -> str:
        """The subject in a few words."""
        return self.path


class PlatformSubject(AnySubject, frozen=True):
    """The operating system or the architecture. One of `accepted` must be it (any where empty), none of `refused`."""

    kind: ClassVar[Kind] = "platform"
    axis: Literal["system", "architecture"]
    accepted: tuple[str, ...] = ()
    refused: tuple[str, ...] = ()

    @property
    def label(self) -> str:
        """The subject in a few words."""
        return self.axis


class SizeSubject(AnySubject, frozen=True):
    """How much memory, or free disk, there must be, in bytes."""

    kind: ClassVar[Kind] = "platform"
    what: Literal["memory", "disk"]
    least: int

    @property
    def label(self) -> str:
        """The subject in a few words."""
        return self.what


class ServiceSubject(AnySubject, frozen=True):
    """A service (`mariadb`) that must listen on a port of a host."""

    kind: ClassVar[Kind] = "service"
    name: str
    host: str
    port: int

    @property
    def address(self) -> str:
        """Host and port in one text."""
        return f"{self.host}:{self.port}"

    @property
    def tool(self) -> str:
        """The service."""
        return self.name

    @property
    def label(self) -> str:
        """The subject in a few words."""
        return f"{self.name} {self.address}"


class FactSubject(AnySubject, frozen=True):
    """What the project has settled on, or brings itself: shown, compared by checks, never judged against a machine."""

    kind: ClassVar[Kind] = "fact"
    tool: str
    component: str | None = None

    @property
    def label(self) -> str:
        """The subject in a few words."""
        return f"{self.tool} {self.component}" if self.component else self.tool
