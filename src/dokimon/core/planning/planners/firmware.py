"""Firmware: ESP-IDF and PlatformIO projects are built."""

from __future__ import annotations

from pathlib import Path

from dokimon.core.checks.artefact import Artefact
from dokimon.core.checks.carrying_out import PlannedCheck
from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, PlanContext, Rank, RunPlan


def plan(context: PlanContext) -> Plan | None:
    """Firmware is built; what it does shows on a board (ESP-IDF and PlatformIO)."""
    folder = context.folder
    lists = folder / "CMakeLists.txt"

    def built(command: tuple[str, ...], asked_by: Path, *images: str) -> Plan:
        checks = tuple(PlannedCheck(Artefact(built=pattern)) for pattern in images)
        source = context.source(asked_by)
        return Plan(
            prepare=(),
            runs=(
                RunPlan(
                    rank=Rank.FRAMEWORK,
                    name="firmware",
                    command=command,
                    folder=folder,
                    source=source,
                    kind="program",
                    within=1800,
                    checks=checks,
                ),
            ),
        )

    if "tools/cmake/project.cmake" in text_of(lists):
        return built(("idf.py", "build"), lists, "build/*.elf", "build/*.bin")
    platformio = folder / "platformio.ini"
    if platformio.is_file():
        return built(("pio", "run"), platformio, ".pio/build/*/firmware.*")
    return None
