"""What `dokimon.toml` says of prepare steps, runs and checks, as a plan."""

from __future__ import annotations

import shlex
from pathlib import Path

from dokimon.core.declarations.checkout import SETTINGS_FILE
from dokimon.core.declarations.requirement import Source
from dokimon.core.measures import seconds
from dokimon.core.planning.plan import PROGRAM_SECONDS, EndCheck, PageCheck, PlanFault, RunPlan, Setting, Step
from dokimon.core.settings import Prepare, Run, Settings, Smoke


def steps(settings: Settings, setting: Setting, words: dict[str, str], environment: dict[str, str]) -> list[Step]:
    """Return the `[[prepare]]` steps, each with why it is needed now or why not."""
    return [_step(each, settings, index, setting, words, environment) for index, each in enumerate(settings.prepare)]


def runs(settings: Settings, setting: Setting, words: dict[str, str], environment: dict[str, str]) -> list[RunPlan]:
    """Return the `[[run]]`s with their `[[smoke]]` checks. `words` and `environment` are a `Plan`'s."""
    return [_run(each, settings, index, setting, words, environment) for index, each in enumerate(settings.run)]


def checks_of(name: str, settings: Settings) -> tuple[tuple[PageCheck, ...], EndCheck | None]:
    """Return the page checks for a run, and how it must end; a `[[smoke]]` without `of` speaks of the only run."""
    mine = [smoke for smoke in settings.smoke if smoke.of in (None, name)]
    pages = tuple(_page(smoke) for smoke in mine if smoke.get is not None)
    ends = [smoke for smoke in mine if smoke.exit is not None or smoke.prints]
    if not ends:
        return pages, None
    statuses = [smoke.exit for smoke in ends if smoke.exit is not None]
    prints = tuple(text for smoke in ends for text in _texts(smoke.prints))
    return pages, EndCheck(statuses[0] if statuses else 0, prints)


def _page(smoke: Smoke) -> PageCheck:
    statuses = smoke.status if isinstance(smoke.status, list) else [smoke.status] if smoke.status else []
    return PageCheck(smoke.get or "/", tuple(statuses), smoke.title, _texts(smoke.shows), smoke.assets)


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
    pages, end = checks_of(run.name, settings)
    within = seconds(run.up.within) if run.kind != "program" else max(seconds(run.up.within), PROGRAM_SECONDS)
    return RunPlan(
        name=run.name,
        command=filled(run.command, words),
        folder=_inside(setting, run.folder),
        source=Source(SETTINGS_FILE, settings.line("run", index), run.command),
        kind=run.kind or ("server" if pages else "program" if end else None),
        port=run.port,
        environment={**environment, **run.environment},
        up_line=run.up.line,
        up_file=_inside(setting, run.up.file) if run.up.file else None,
        up_get=run.up.get,
        after=_texts(run.after),
        terminal=run.terminal,
        keys=_texts(run.keys),
        stop=run.stop,
        expose=run.expose,
        within=within,
        pages=pages,
        end=end or EndCheck(),
    )


def _inside(setting: Setting, name: str) -> Path:
    path = (setting.root / name).resolve()
    if not path.is_relative_to(setting.root.resolve()):
        raise PlanFault(f'"{name}" in {SETTINGS_FILE} leads out of the checkout')
    return setting.root / name
