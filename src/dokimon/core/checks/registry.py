"""The kinds of check, one line each. A new kind is one more module here, and one more line in `KINDS`."""

from __future__ import annotations

from collections.abc import Mapping
from importlib import import_module
from typing import Any, NamedTuple

from dokimon.core.checks.spec import CheckSpec


class CheckKind(NamedTuple):
    """A kind of check: the keys that show that it is meant, the module (loaded when first met), the name of its type."""

    keys: tuple[str, ...]
    module: str
    type_name: str

    @property
    def type(self) -> type[CheckSpec]:
        """The type of its `[[smoke]]` tables."""
        loaded: type[CheckSpec] = getattr(import_module(self.module, __package__), self.type_name)
        return loaded


KINDS: tuple[CheckKind, ...] = (
    CheckKind(("fact",), ".fact", "FactCheck"),
    CheckKind(("change",), ".change", "LiveChange"),
    CheckKind(("window",), ".window", "Window"),
    CheckKind(("get", "request"), ".http", "Http"),
    CheckKind(("render",), ".rendered", "Rendered"),
    CheckKind(("built",), ".artefact", "Artefact"),
    CheckKind(("listens",), ".exposure", "Exposure"),
    CheckKind(("service",), ".service", "Service"),
    CheckKind(("command",), ".command", "Command"),
    CheckKind(("leaves",), ".leftovers", "CleanCheckout"),
    CheckKind(("prints", "never", "output", "exit"), ".console", "Console"),
)
"""In the order in which a table's keys are looked at: a fact may also have `get`, a change too."""


def kind_given(table: Mapping[str, Any]) -> CheckKind | None:
    """Return the kind of check that a `[[smoke]]` table asks for by its keys, or None."""
    return next((kind for kind in KINDS if any(key in table for key in kind.keys)), None)
