"""Smoke checks: one module for each kind, with what is wanted of it (the keys of its `[[smoke]]`) and how it is looked at.

A new kind is one more module, and one more line in `KINDS`.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from importlib import import_module
from typing import Any, NamedTuple

from dokimon.core.checks.scene import Scene
from dokimon.core.checks.wanted import Wanted
from dokimon.core.report.model import Check


class Kind(NamedTuple):
    """A kind of check: the keys that say that it is meant, where it is written, and what a report calls it.

    `alone` kinds change something, so nothing else is looked at meanwhile.
    """

    keys: tuple[str, ...]
    module: str
    wanted: str
    name: str
    alone: bool = False

    @property
    def type(self) -> type[Wanted]:
        """The type of what is wanted."""
        made: type[Wanted] = getattr(self._loaded(), self.wanted)
        return made

    def check(self, wanted: Wanted, scene: Scene) -> list[Check]:
        """Look, and return what was seen."""
        look: Callable[[Wanted, Scene], list[Check]] = self._loaded().check
        return look(wanted, scene)

    def title(self, wanted: Wanted) -> str:
        """Return what a check is called where nobody named it."""
        return str(self._loaded().title(wanted))

    def _loaded(self) -> Any:
        return import_module(f"dokimon.core.checks.{self.module}")


KINDS: tuple[Kind, ...] = (
    Kind(("fact",), "fact", "FactCheck", "fact"),
    Kind(("change",), "change", "LiveChange", "live change", alone=True),
    Kind(("window",), "window", "Window", "window"),
    Kind(("get", "request"), "http", "Http", "http"),
    Kind(("render",), "rendered", "Rendered", "rendered page"),
    Kind(("built",), "artefact", "Artefact", "artefact"),
    Kind(("listens",), "exposure", "Exposure", "exposure"),
    Kind(("service",), "service", "Service", "service"),
    Kind(("command",), "command", "Command", "command", alone=True),
    Kind(("leaves",), "checkout", "CleanCheckout", "checkout"),
    Kind(("prints", "never", "output", "exit"), "console", "Console", "console"),
)
"""In the order in which a table's keys are looked at: a fact may also have `get`, a change too."""


def kind_given(table: Mapping[str, Any]) -> Kind | None:
    """Return the kind of check that a `[[smoke]]` table asks for by its keys, or None."""
    return next((kind for kind in KINDS if any(key in table for key in kind.keys)), None)


def kind_of(wanted: Wanted) -> Kind:
    """Return the kind of what is wanted."""
    name = type(wanted).__name__
    return next(kind for kind in KINDS if kind.wanted == name)
