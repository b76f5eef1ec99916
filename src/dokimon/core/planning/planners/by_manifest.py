"""Ecosystems whose manifest says in one place how a project is started: `by_manifest.toml` says where, and how."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterable, Iterator, Mapping
from functools import cache
from pathlib import Path
from typing import Literal

import msgspec

from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, PlanContext, PrepareStep, Rank, RunPlan
from dokimon.core.planning.planners.freshness import older_than
from dokimon.core.words import filled

OTHER_MANIFESTS = (
    "package.json", "pyproject.toml", "setup.py", "setup.cfg", "Cargo.toml", "go.mod", "composer.json", "pom.xml",
    "build.gradle", "build.gradle.kts", "*.gemspec", "Gemfile", "CMakeLists.txt", "meson.build", "configure.ac", "*.csproj",
    "*.sln", "mix.exs", "Makefile.PL", "*.cabal", "Makefile", "manage.py", "app.py", "main.py",
)  # fmt: skip
"""Manifests of projects that have their documentation beside them."""

_MOST_FILES = 500
_LARGEST = 200_000


class Way(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """One entry of `by_manifest.toml`; its comment says what each key means."""

    file: str
    name: str
    command: tuple[str, ...]
    pattern: str = ""
    unless_pattern: str = ""
    with_: str = msgspec.field(default="", name="with")
    also: tuple[str, ...] = ()
    unless: tuple[str, ...] = ()
    prepare: tuple[str, ...] = ()
    makes: str = ""
    port: int | Literal["any"] | None = None
    rank: Literal["framework", "command", "file"] = "framework"
    beside: bool = False
    terminal: bool = False
    kind: Literal["program"] | None = None


@cache
def ways(name: str = "by_manifest") -> tuple[Way, ...]:
    """Return all ways of a file of this folder, in its order."""
    read = tomllib.loads(Path(__file__).with_name(f"{name}.toml").read_text("utf-8"))
    return tuple(msgspec.convert(read["way"], tuple[Way, ...]))


def plan(context: PlanContext) -> Plan | None:
    """Return what the manifests of the folder say of starting; a site beside another project is only proposed."""
    return plan_by(ways(), context)


def plan_by(known: Iterable[Way], context: PlanContext) -> Plan | None:
    """Return the plan of those ways whose manifest is in the folder and shows them; None of none."""
    steps: dict[tuple[str, ...], PrepareStep] = {}
    runs: dict[tuple[str, ...], RunPlan] = {}
    for way in known:
        for path, words, line in _found(way, context.folder):
            run = _run(way, path, words, line, context)
            assert isinstance(run.command, tuple)
            if run.command in runs:
                continue
            runs[run.command] = run
            if way.prepare and run.rank < Rank.PROPOSAL:
                step = _step(way, path, words, context)
                assert isinstance(step.command, tuple)
                steps.setdefault(step.command, step)
    return Plan(prepare=tuple(steps.values()), runs=tuple(runs.values())) if runs else None


def _found(way: Way, folder: Path) -> Iterator[tuple[Path, dict[str, str], int]]:
    """Yield each manifest that shows the way, the words for its braces, and the line that shows it."""
    for path in sorted(folder.glob(way.file)):
        if not path.is_file() or any(_there(folder, name) for name in way.unless):
            continue
        text = text_of(path, _LARGEST)
        match = re.search(way.pattern, text, re.MULTILINE) if way.pattern else None
        if (way.pattern and match is None) or (
            way.unless_pattern and re.search(way.unless_pattern, text, re.MULTILINE)
        ):
            continue
        beside = _sources(folder, way.also) if way.also else [path]
        more = next((found for each in beside if (found := re.search(way.with_, text_of(each), re.MULTILINE))), None)
        if not beside or (way.with_ and more is None):
            continue
        groups = {**(match.groupdict() if match else {}), **(more.groupdict() if more else {})}
        words = {name: value for name, value in groups.items() if value}
        start = match.start() + len(match[0]) - len(match[0].lstrip()) if match else 0
        yield path, words, text.count("\n", 0, start) + 1


def is_beside(folder: Path) -> bool:
    """Whether a folder has the manifest of a project that its documentation stands beside."""
    return any(_there(folder, name) for name in OTHER_MANIFESTS)


def _there(folder: Path, name: str) -> bool:
    return next(folder.glob(name), None) is not None


def _sources(folder: Path, names: tuple[str, ...]) -> list[Path]:
    found: list[Path] = []
    for name in names:
        for path in folder.glob(name):
            found.append(path)
            if len(found) >= _MOST_FILES:
                return sorted(found)
    return sorted(found)


def _run(way: Way, path: Path, words: Mapping[str, str], line: int, context: PlanContext) -> RunPlan:
    rank = Rank[way.rank.upper()]
    if way.beside and is_beside(context.folder):
        rank = Rank.PROPOSAL
    return RunPlan(
        name=filled(way.name, words),
        command=tuple(filled(word, words) for word in way.command),
        folder=context.folder,
        source=context.source(path, line),
        kind="server" if way.port is not None else way.kind,
        port=way.port,
        may_move=way.port not in (None, "any"),
        terminal=way.terminal,
        rank=rank,
    )


def _step(way: Way, path: Path, words: Mapping[str, str], context: PlanContext) -> PrepareStep:
    made = context.folder / filled(way.makes, words) if way.makes else None
    sources = [each for each in context.folder.iterdir() if each.name in ("src", "source", "lib", "bin", "app")]
    tool = way.prepare[0]
    return PrepareStep(
        title="build" if tool != "bundle" else "install gems",
        command=tuple(filled(word, words) for word in way.prepare),
        folder=context.folder,
        source=context.source(path),
        needed=older_than(made, [path, *sources]) if made else f"{tool} knows what must be done",
        makes=(made,) if made else (),
    )
