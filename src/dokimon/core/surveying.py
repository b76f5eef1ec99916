"""The machine by itself: what `dokimon tools` tells."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from pathlib import Path

import msgspec

from dokimon.core.declarations.checkout import Checkout, find_checkout
from dokimon.core.machine.catalogue import Catalogue, Tool
from dokimon.core.machine.system import this_system
from dokimon.core.report.model import FORMAT, Project, Report
from dokimon.core.text import clean
from dokimon.core.verifying import catalogue_for, load_settings, notes_on_homes, surveyor_for


class Known(msgspec.Struct, frozen=True):
    """The folder one stands in, the checkout around it, and the catalogue that holds there."""

    here: Path
    checkout: Checkout
    catalogue: Catalogue


def known_here(environment: Mapping[str, str]) -> Known:
    """Return what can be asked about here. Raises `SettingsFault` where the checkout's `dokimon.toml` cannot be used."""
    here = Path.cwd()
    checkout = find_checkout(here)
    settings, _ = load_settings(checkout)
    return Known(here, checkout, catalogue_for(settings, environment))


def tools_report(
    known: Known, names: Collection[str], environment: Mapping[str, str], *, with_parts: bool, fresh: bool
) -> Report:
    """Return the report of `dokimon tools`: the copies of each tool, asked for the folder one stands in.

    With `with_parts` their components are told as well. Nothing that lies in the checkout around that folder is run.
    Raises `CatalogueFault`.
    """
    root = known.checkout.root
    entries = [entry for name in names if (entry := known.catalogue.find(name))]
    parts_of = [entry.name for entry in entries if entry.part] if with_parts else []
    surveyor = surveyor_for(known.catalogue, known.checkout, known.here, environment, fresh=fresh)
    found = surveyor.survey(names, parts_of)
    return Report(
        format=FORMAT,
        command="tools",
        verdict="met",
        project=Project(clean(str(root)), clean(root.name or str(root), 80)),
        requirements=(),
        installations=tuple(copy for copies in found.installations.values() for copy in copies),
        components=found.components,
        system=this_system(known.here),
        notes=(
            *map(clean, found.notes),
            *notes_on_homes(entries, found, environment),
            *_notes_on_shells([entry for entry in entries if not found.installations[entry.name]], environment),
        ),
    )


def _notes_on_shells(missing: Iterable[Tool], environment: Mapping[str, str]) -> list[str]:
    """Say of which of the tools that were not found interactive shells know more."""
    from dokimon.core.machine.version_managers import given_by_shells

    given = [one for tool in missing for command in tool.commands if (one := given_by_shells(command, environment))]
    return list(dict.fromkeys(clean(f"{one.file}:{one.line} {one.how}, in interactive shells only") for one in given))
