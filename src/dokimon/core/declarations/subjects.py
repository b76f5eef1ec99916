"""The subject of a requirement: one type for each kind of subject, so that judging can match on them."""

from __future__ import annotations

from typing import ClassVar, Literal

import msgspec

Kind = Literal["tool", "component", "variable", "path", "platform", "service", "fact"]
"""The kinds of subject as the report names them."""


class ToolSubject(msgspec.Struct, frozen=True):
    """A tool, by its name in the catalogue; of an unknown one its command."""

    kind: ClassVar[Kind] = "tool"
    name: str

    @property
    def label(self) -> str:
        """How the subject is called."""
        return self.name


class ComponentSubject(msgspec.Struct, frozen=True):
    """A part of a tool: `ext-mbstring` of PHP, `sdk` of .NET."""

    kind: ClassVar[Kind] = "component"
    tool: str
    name: str

    @property
    def label(self) -> str:
        """How the subject is called."""
        return f"{self.tool} {self.name}"


class VariableSubject(msgspec.Struct, frozen=True):
    """An environment variable that must be set."""

    kind: ClassVar[Kind] = "variable"
    name: str

    @property
    def label(self) -> str:
        """How the subject is called."""
        return self.name


class PathSubject(msgspec.Struct, frozen=True):
    """A file or folder that must be there: relative to the root of the checkout, absolute, or below `~`."""

    kind: ClassVar[Kind] = "path"
    path: str

    @property
    def label(self) -> str:
        """How the subject is called."""
        return self.path


class PlatformSubject(msgspec.Struct, frozen=True):
    """The operating system or the architecture. One of `accepted` must be it (any where empty), none of `refused`."""

    kind: ClassVar[Kind] = "platform"
    axis: Literal["system", "architecture"]
    accepted: tuple[str, ...] = ()
    refused: tuple[str, ...] = ()

    @property
    def label(self) -> str:
        """How the subject is called."""
        return self.axis


class SizeSubject(msgspec.Struct, frozen=True):
    """How much memory, or free disk, there must be, in bytes."""

    kind: ClassVar[Kind] = "platform"
    what: Literal["memory", "disk"]
    least: int

    @property
    def label(self) -> str:
        """How the subject is called."""
        return self.what


class ServiceSubject(msgspec.Struct, frozen=True):
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
    def label(self) -> str:
        """How the subject is called."""
        return f"{self.name} {self.address}"


class FactSubject(msgspec.Struct, frozen=True):
    """What the project has settled on, or brings itself: shown, compared by checks, never judged against a machine."""

    kind: ClassVar[Kind] = "fact"
    name: str
    component: str | None = None

    @property
    def label(self) -> str:
        """How the subject is called."""
        return f"{self.name} {self.component}" if self.component else self.name
