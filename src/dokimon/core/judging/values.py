"""What judging knows of this machine, and what it comes to for one requirement."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from dokimon.core.declarations.requirement import Requirement
from dokimon.core.declarations.subjects import ServiceSubject, ToolSubject
from dokimon.core.machine.catalogue import Catalogue
from dokimon.core.machine.components import Component
from dokimon.core.machine.survey import Installation
from dokimon.core.report.model import FindingVerdict, Found
from dokimon.core.versions.constraint import Constraint

if TYPE_CHECKING:
    from dokimon.core.machine.service_protocols import Greeting


class Machine(msgspec.Struct, frozen=True, kw_only=True):
    """What judging may know of this machine: what was found on it, its variables, and the catalogue.

    `greetings` holds what answered at the address of a service on this machine; `needed` the constraints that all
    required needs put on a tool, so that no remedy points to a copy that breaks one of them.
    """

    installations: Mapping[str, Sequence[Installation]]
    environment: Mapping[str, str]
    root: Path
    catalogue: Catalogue
    components: Sequence[Component] = ()
    greetings: Mapping[ServiceSubject, Greeting] = {}
    needed: Mapping[str, Sequence[Constraint]] = {}

    def copies(self, tool: str) -> Sequence[Installation]:
        """Return the copies of a tool."""
        return self.installations.get(tool, ())

    def reached(self, tool: str) -> Installation | None:
        """Return the copy that a command reaches."""
        return next((copy for copy in self.copies(tool) if copy.reached), None)


class Judgement(msgspec.Struct, frozen=True, kw_only=True):
    """What came of one requirement: the verdict, the reason in words, the copy or component that was judged.

    `choices` are the judgements of the requirements of which one must be met, in their order.
    """

    verdict: FindingVerdict
    reason: str
    copy: Installation | None = None
    found: Found | None = None
    choices: tuple[Judgement, ...] = ()

    @property
    def evidence(self) -> Found | None:
        """What was found, for the report."""
        if self.found or self.copy is None:
            return self.found
        return Found(path=self.copy.path, version=self.copy.version, known_by=self.copy.known_by)


def constraints_of(requirements: Iterable[Requirement]) -> dict[str, list[Constraint]]:
    """Return, by tool, the constraints of all required needs of the tool itself."""
    found: dict[str, list[Constraint]] = {}
    for each in requirements:
        if isinstance(each.subject, ToolSubject) and each.strength == "required" and each.constraint:
            found.setdefault(each.tool, []).append(each.constraint)
    return found
