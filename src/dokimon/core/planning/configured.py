"""What `dokimon.toml` says of prepare steps, runs and checks, as a plan."""

from __future__ import annotations

import json
import sys
from importlib.util import find_spec
from pathlib import Path

import msgspec

from dokimon.core.checks.carrying_out import PlannedCheck
from dokimon.core.checks.spec import CheckSpec
from dokimon.core.declarations.checkout import SETTINGS_FILE
from dokimon.core.machine.platform import shell_command
from dokimon.core.measures import seconds
from dokimon.core.planning.plan import (
    PROGRAM_SECONDS,
    PlanContext,
    PlanFault,
    PrepareStep,
    RunKind,
    RunPlan,
    TargetPlan,
    shown,
)
from dokimon.core.settings.model import PrepareTable, RunTable, SerialTable, Settings, TargetTable
from dokimon.core.source import Source
from dokimon.core.words import filled_for_shell


class Configured:
    """Plans made of the tables of a `dokimon.toml`. `words` and `environment` are a `Plan`'s."""

    def __init__(
        self, settings: Settings, context: PlanContext, words: dict[str, str], environment: dict[str, str]
    ) -> None:
        self._settings = settings
        self._context = context
        self._words = words
        self._environment = environment

    def steps(self) -> list[PrepareStep]:
        """Return the `[[prepare]]` steps, each with why it is needed now or why not."""
        return [self._step(table, index) for index, table in enumerate(self._settings.prepare)]

    def runs(self) -> list[RunPlan]:
        """Return the `[[run]]`s with their `[[smoke]]` checks. Raises `PlanFault`."""
        return [self._run(table, index) for index, table in enumerate(self._settings.run)]

    def _step(self, table: PrepareTable, index: int) -> PrepareStep:
        makes = tuple(self._inside(name) for name in table.makes)
        made_from = tuple(self._inside(name) for name in table.made_from)
        return PrepareStep(
            title=table.title or table.command,
            command=table.command,
            folder=self._inside(table.folder),
            source=self._source("prepare", index, table.command),
            needed=why_needed(makes, made_from, self._context.root),
            reason="what it makes is there and newer than what it is made from",
            environment=self._environment,
            words=self._words,
            makes=makes,
            within=seconds(table.within),
        )

    def _run(self, table: RunTable, index: int) -> RunPlan:
        checks = checks_of(table.name, self._settings)
        kind = _kind(table, checks)
        plan = RunPlan(
            name=table.name,
            command=table.command or "",
            folder=self._inside(table.folder),
            source=self._source("run", index, table.command or ""),
            kind=kind,
            port=table.port,
            environment={**self._environment, **table.environment},
            words=self._words,
            up_line=table.up.line,
            up_file=self._inside(table.up.file) if table.up.file else None,
            up_get=table.up.get,
            within=_within(table),
            after=_texts(table.after),
            terminal=table.terminal,
            keys=_texts(table.keys),
            stop=table.stop,
            expose=table.expose,
            harmless=_texts(table.harmless),
            target=_target(table.target, self._words),
            checks=checks,
        )
        return self._on_port(plan, table, table.serial, index) if table.serial else plan

    def _on_port(self, plan: RunPlan, table: RunTable, serial: SerialTable, index: int) -> RunPlan:
        """Return the plan where a board's serial port is the run, with the run's own command beside it."""
        shown_as = f"serial port {serial.port} at {serial.speed} baud"
        beside = shown(table.command, plan.folder, self._words) if table.command else None
        has_sign = plan.kind == "program" or bool(table.up.line or table.up.file or table.up.get)
        return msgspec.structs.replace(
            plan,
            command=(*_SERIAL_READER, json.dumps(_serial_wish(table, serial, self._words))),
            words={},  # filled in above: what is left in braces is JSON
            source=self._source("run", index, table.command or shown_as),
            up_line=table.up.line if has_sign else _ANYTHING,
            shown_as=f"{shown_as}, beside {beside}" if beside else shown_as,
            lacks=None if find_spec("serial") else _NO_SERIAL,
        )

    def _source(self, table: str, index: int, text: str) -> Source:
        return Source(SETTINGS_FILE, self._settings.line(table, index), text)

    def _inside(self, name: str) -> Path:
        root = self._context.root
        if not (root / name).resolve().is_relative_to(root.resolve()):
            raise PlanFault(f'"{name}" in {SETTINGS_FILE} is outside the checkout')
        return root / name


def checks_of(name: str, settings: Settings) -> tuple[PlannedCheck, ...]:
    """Return the checks of a run; a `[[smoke]]` without `of` belongs to the only run. Raises `PlanFault`."""
    return tuple(
        _planned(spec, index, settings)
        for index, spec in enumerate(settings.smoke)
        if spec.of in (None, name) and not spec.after_all
    )


def checks_of_checkout(settings: Settings) -> tuple[PlannedCheck, ...]:
    """Return the checks that look at the checkout when all is over. Raises `PlanFault`."""
    return tuple(_planned(spec, index, settings) for index, spec in enumerate(settings.smoke) if spec.after_all)


def _planned(spec: CheckSpec, index: int, settings: Settings) -> PlannedCheck:
    line = settings.line("smoke", index)
    for problem in spec.late_problems():
        raise PlanFault(problem, file=SETTINGS_FILE, line=line)
    return PlannedCheck(spec, Source(SETTINGS_FILE, line, spec.default_name))


def why_needed(makes: tuple[Path, ...], made_from: tuple[Path, ...], root: Path) -> str | None:
    """Return why a step must be done, or None: what it makes is all there, and nothing it is made from is newer."""

    def below(path: Path) -> str:
        return path.relative_to(root).as_posix()

    if not makes:
        return "it names nothing that it makes, so it is done each time"
    missing = [path for path in makes if not path.exists()]
    if missing:
        return f"{below(missing[0])} is missing"
    oldest = min(path.stat().st_mtime_ns for path in makes)
    for path in made_from:
        if path.exists() and path.stat().st_mtime_ns > oldest:
            return f"{below(path)} has changed since"
    return None


def _kind(table: RunTable, checks: tuple[PlannedCheck, ...]) -> RunKind:
    """Return what the run is: as it says itself, else as its checks or its serial port show."""
    if table.kind:
        return table.kind
    if any(each.spec.asks_server for each in checks):
        return "server"
    ends = any(each.spec.expected_exit is not None for each in checks)
    listens_for_a_while = table.serial is not None and bool(table.serial.until or table.serial.listen)
    return "program" if ends or listens_for_a_while else None


def _within(table: RunTable) -> float:
    within = seconds(table.up.within)
    return max(within, PROGRAM_SECONDS) if table.kind == "program" else within


def _texts(given: str | list[str]) -> tuple[str, ...]:
    return (given,) if isinstance(given, str) else tuple(given)


_NO_SERIAL = "a serial port needs the package pyserial, which pip install 'dokimon[serial]' brings"

_ANYTHING = r"\S"
"""A board is up once it says something."""

# Isolated (-I), so that no module of the checkout is taken for one of ours.
_SERIAL_READER = (sys.executable, "-I", "-m", "dokimon.core.processes.serial")


def _serial_wish(table: RunTable, serial: SerialTable, words: dict[str, str]) -> dict[str, object]:
    """Return the settings of the serial reader."""
    listen = seconds(serial.listen) if serial.listen else None
    if listen is None and serial.until:
        listen = seconds(table.up.within)
    command = shell_command(filled_for_shell(table.command, words)) if table.command else None
    return {
        "port": serial.port, "speed": serial.speed, "reset": serial.reset, "until": serial.until, "seconds": listen,
        "command": command,
    }  # fmt: skip


def _target(target: TargetTable | None, words: dict[str, str]) -> TargetPlan | None:
    if target is None:
        return None
    start = filled_for_shell(target.start, words) if target.start else None
    return TargetPlan(
        list_command=filled_for_shell(target.list, words), line=target.line, within=seconds(target.within), start=start,
        each=target.each,
    )  # fmt: skip
