"""How a smoke check is wanted: values that refuse what contradicts them, so that no caller has to know it."""

from __future__ import annotations

from collections.abc import Callable
from typing import ClassVar

import msgspec

from dokimon.core.faults import Fault
from dokimon.core.processes.ports import Ports


class OptionsFault(Fault):
    """Options of a call that say nothing without another, or that contradict each other."""

    of_call: ClassVar[bool] = True


class SmokeOptions(msgspec.Struct, frozen=True, kw_only=True):
    """How a smoke check is wanted: `runs` by name or `every` way to start, and what the options of the command say.

    With `keep` the last run stays up for somebody to look at. `wait_seconds` is how long to wait where another smoke check
    is at work in this checkout. With `record` it is recorded; with `share` the report is made fit to hand on; without
    `render` no browser opens a page that nobody asked to be rendered. `ports` are those that it shares with others side by
    side.
    """

    runs: tuple[str, ...] = ()
    every: bool = False
    prepare: bool = True
    keep: bool = False
    pick: bool = False
    anyway: bool = False
    strict: bool = False
    may_ask: tuple[str, ...] = ()
    wait_seconds: float = 0.0
    record: bool = False
    share: bool = False
    render: bool = True
    ports: Ports | None = None


class CloneOptions(msgspec.Struct, frozen=True, kw_only=True):
    """What is cloned: what is `staged` too; `empty` shares no cache of a package manager.

    `leading` changes the variables that the clone is given, to put a copy of a tool first.
    """

    staged: bool = False
    empty: bool = False
    leading: Callable[[dict[str, str]], dict[str, str]] | None = None

    @classmethod
    def wished(cls, *, clone: bool, across: bool, staged: bool, empty: bool, planned: bool) -> CloneOptions | None:
        """Return how clones are made, None where none is wanted. Raises `OptionsFault`."""
        of_clones = clone or across
        _refuse(
            (staged and not of_clones, "--staged says how a clone is made: call it with --clone"),
            (empty and not of_clones, "--empty says how a clone is made: call it with --clone"),
            (clone and planned, "--show-plan runs nothing, --clone a clone: give one of them"),
        )
        return cls(staged=staged, empty=empty) if of_clones else None


class AcrossOptions(msgspec.Struct, frozen=True, kw_only=True):
    """What is tried: versions of these `tools` (as they were typed), `only` these combinations where some are named.

    Of several tools each version is tried with the others as they are reached, with `all_pairs` each with each;
    `at_once` clones are carried out side by side.
    """

    tools: tuple[str, ...]
    only: tuple[str, ...] = ()
    all_pairs: bool = False
    at_once: int = 1

    @classmethod
    def wished(
        cls,
        options: SmokeOptions,
        *,
        tools: tuple[str, ...],
        only: tuple[str, ...],
        all_pairs: bool,
        at_once: int,
        listed: bool,
        planned: bool,
    ) -> AcrossOptions | None:
        """Return what is tried, None where it is one version alone. Raises `OptionsFault`."""
        alone = options.keep or options.pick or planned
        _refuse(
            (only and not tools, "--only is about the versions of a tool: call it with --across"),
            (listed and not tools, "--list is about the versions of a tool: call it with --across"),
            (all_pairs and len(tools) < 2, "--all-pairs is about several tools: give --across for each of them"),
            (tools and alone, "--across tries several versions: without --keep, --pick and --show-plan"),
        )
        return cls(tools=tools, only=only, all_pairs=all_pairs, at_once=at_once) if tools else None


def refuse_of_several(several: bool, options: SmokeOptions, across: AcrossOptions | None, at_once: int) -> None:
    """Refuse what is about one project where there are several, and the other way round. Raises `OptionsFault`."""
    _refuse(
        (several and (options.keep or across), "--keep and --across are about one project: name one folder"),
        (
            at_once > 1 and not several and not across,
            "--jobs is about several projects or versions: here is one of each",
        ),
    )


def _refuse(*wrong: tuple[object, str]) -> None:
    for is_wrong, says in wrong:
        if is_wrong:
            raise OptionsFault(says)
