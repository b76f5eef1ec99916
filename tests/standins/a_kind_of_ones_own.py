"""A kind of check that Dokimon does not ship: does a run ring its bell so many times? Played by what it prints."""

from __future__ import annotations

from collections.abc import Iterator
from typing import ClassVar

from dokimon.core.checks.context import CheckContext
from dokimon.core.checks.spec import CheckSpec
from dokimon.core.report.model import Check


class Bell(CheckSpec, frozen=True, kw_only=True):
    """`bell = 3`: it rings three times."""

    kind_name: ClassVar[str] = "bell"

    bell: int = 1

    @property
    def default_name(self) -> str:
        return f"rings {self.bell} times"

    @property
    def expected_exit(self) -> int | None:
        return 0

    def problems(self) -> Iterator[tuple[str, str]]:
        if self.bell < 1:
            yield "bell", "a bell rings at least once"

    def gives(self) -> frozenset[str]:
        return frozenset({"rings"})

    def look(self, context: CheckContext) -> list[Check]:
        rung = f"rung {self.bell} times" in context.output.text()
        context.facts[context.name, "rings"] = self.bell
        verdict = "passed" if rung else "failed"
        return [Check(name=self.default_name, verdict=verdict, expected=f"{self.bell} rings", seen=f"{rung}")]
