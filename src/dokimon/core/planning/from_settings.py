"""What `dokimon.toml` says of prepare steps, runs and checks, as a plan."""

from __future__ import annotations

import shlex
from importlib.util import find_spec
from pathlib import Path

from dokimon.core.checks import kind_of
from dokimon.core.checks.carrying_out import Asked
from dokimon.core.checks.wanted import Wanted
from dokimon.core.declarations.checkout import SETTINGS_FILE
from dokimon.core.declarations.requirement import Source
from dokimon.core.machine.platform import shell_command
from dokimon.core.measures import seconds
from dokimon.core.planning.plan import PROGRAM_SECONDS, PlanFault, RunPlan, Setting, Step, TargetPlan, asks_a_server
from dokimon.core.settings import Prepare, Run, Serial, Settings, Target


def steps(settings: Settings, setting: Setting, words: dict[str, str], environment: dict[str, str]) -> list[Step]:
    """Return the `[[prepare]]` steps, each with why it is needed now or why not."""
    return [_step(each, settings, index, setting, words, environment) for index, each in enumerate(settings.prepare)]


def runs(settings: Settings, setting: Setting, words: dict[str, str], environment: dict[str, str]) -> list[RunPlan]:
    """Return the `[[run]]`s with their `[[smoke]]` checks. `words` and `environment` are a `Plan`'s."""
    return [_run(each, settings, index, setting, words, environment) for index, each in enumerate(settings.run)]


def checks_of(name: str, settings: Settings) -> tuple[Asked, ...]:
    """Return the checks of a run; a `[[smoke]]` without `of` speaks of the only one. Raises `PlanFault`."""
    return tuple(
        asked
        for index, wanted in enumerate(settings.smoke)
        if wanted.of in (None, name) and kind_of(wanted).name != "checkout"
        for asked in [_asked(wanted, index, settings)]
    )


def checks_of_checkout(settings: Settings) -> tuple[Asked, ...]:
    """Return the checks that look at the checkout when all is over."""
    return tuple(
        _asked(wanted, index, settings)
        for index, wanted in enumerate(settings.smoke)
        if kind_of(wanted).name == "checkout"
    )


def _asked(wanted: Wanted, index: int, settings: Settings) -> Asked:
    line = settings.line("smoke", index)
    selectors = [*getattr(wanted, "elements", ())]
    if selectors:
        from dokimon.core.checks.html import SelectorFault, check_selector

        for selector in selectors:
            try:
                check_selector(selector)
            except SelectorFault as fault:
                raise PlanFault(f"{SETTINGS_FILE}:{line}: {fault}") from None
    return Asked(wanted, Source(SETTINGS_FILE, line, kind_of(wanted).title(wanted)))


def _texts(given: str | list[str]) -> tuple[str, ...]:
    return (given,) if isinstance(given, str) else tuple(given)


def _step(
    prepare: Prepare,
    settings: Settings,
    index: int,
    setting: Setting,
    words: dict[str, str],
    environment: dict[str, str],
) -> Step:
    makes = tuple(_inside(setting, name) for name in prepare.makes)
    made_from = tuple(_inside(setting, name) for name in prepare.made_from)
    return Step(
        title=prepare.title or prepare.command,
        command=filled(prepare.command, words),
        folder=_inside(setting, prepare.folder),
        source=Source(SETTINGS_FILE, settings.line("prepare", index), prepare.command),
        needed=why_needed(makes, made_from, setting.root),
        reason="what it makes is there and newer than what it is made from",
        environment=environment,
        makes=makes,
        within=seconds(prepare.within),
    )


def filled(command: str, words: dict[str, str]) -> str:
    """Return the command line with the words in braces filled in, quoted for the shell."""
    for word, value in words.items():
        command = command.replace(f"{{{word}}}", shlex.quote(value))
    return command


def why_needed(makes: tuple[Path, ...], made_from: tuple[Path, ...], root: Path) -> str | None:
    """Return why a step must be done, or None: what it makes is all there, and nothing it is made from is newer."""

    def shown(path: Path) -> str:
        return path.relative_to(root).as_posix()

    if not makes:
        return "it names nothing that it makes, so it is done each time"
    missing = [path for path in makes if not path.exists()]
    if missing:
        return f"{shown(missing[0])} is missing"
    oldest = min(path.stat().st_mtime_ns for path in makes)
    for path in made_from:
        if path.exists() and path.stat().st_mtime_ns > oldest:
            return f"{shown(path)} has changed since"
    return None


def _run(
    run: Run,
    settings: Settings,
    index: int,
    setting: Setting,
    words: dict[str, str],
    environment: dict[str, str],
) -> RunPlan:
    checks = checks_of(run.name, settings)
    serves = asks_a_server(checks)
    ends = any(
        getattr(each.wanted, "exit", None) is not None and kind_of(each.wanted).name == "console" for each in checks
    )
    kind = run.kind or ("server" if serves else "program" if ends else None)
    within = seconds(run.up.within) if run.kind != "program" else max(seconds(run.up.within), PROGRAM_SECONDS)
    serial = run.serial
    on_port = f"serial port {serial.port} at {serial.speed} baud" if serial else None
    beside = filled(run.command, words) if run.command else None
    if serial and (serial.until or serial.listen):
        kind = kind or "program"
    return RunPlan(
        name=run.name,
        command=_on_port(serial, run, words) if serial else filled(run.command or "", words),
        folder=_inside(setting, run.folder),
        source=Source(SETTINGS_FILE, settings.line("run", index), run.command or on_port or ""),
        kind=kind,
        port=run.port,
        environment={**environment, **run.environment},
        up_line=run.up.line
        or (_ANYTHING if serial and kind != "program" and not (run.up.file or run.up.get) else None),
        up_file=_inside(setting, run.up.file) if run.up.file else None,
        up_get=run.up.get,
        after=_texts(run.after),
        terminal=run.terminal,
        keys=_texts(run.keys),
        stop=run.stop,
        expose=run.expose,
        within=within,
        target=_target(run.target, words),
        lacks=_NO_SERIAL if serial and find_spec("serial") is None else None,
        said=on_port and f"{on_port}, beside {beside}" if beside else on_port,
        checks=checks,
    )


_NO_SERIAL = "a serial port needs the package pyserial, which pip install 'dokimon[serial]' brings"

_ANYTHING = r"\S"
"""A board is up once it says something."""


def _on_port(serial: Serial, run: Run, words: dict[str, str]) -> tuple[str, ...]:
    """Return the command that listens on a serial port, with the run's own command beside it."""
    import json
    import sys

    wish = {
        "port": serial.port, "speed": serial.speed, "reset": serial.reset, "until": serial.until,
        "seconds": seconds(serial.listen) if serial.listen else seconds(run.up.within) if serial.until else None,
        "command": shell_command(filled(run.command, words)) if run.command else None,
    }  # fmt: skip
    # Isolated (-I), so that no module of the checkout is taken for one of ours.
    return sys.executable, "-I", "-m", "dokimon.core.launching.serial_reader", json.dumps(wish)


def _target(target: Target | None, words: dict[str, str]) -> TargetPlan | None:
    if target is None:
        return None
    start = filled(target.start, words) if target.start else None
    return TargetPlan(filled(target.list, words), target.line, seconds(target.within), start, target.each)


def _inside(setting: Setting, name: str) -> Path:
    path = (setting.root / name).resolve()
    if not path.is_relative_to(setting.root.resolve()):
        raise PlanFault(f'"{name}" in {SETTINGS_FILE} leads out of the checkout')
    return setting.root / name
