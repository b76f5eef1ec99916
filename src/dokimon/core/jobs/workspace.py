"""What every job opens first: the checkout, its settings, the catalogue that holds there; and a survey of this machine."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from pathlib import Path

import msgspec

from dokimon.core.declarations.checkout import SETTINGS_FILE, Checkout, find_checkout
from dokimon.core.files import inside
from dokimon.core.machine.cache import Cache
from dokimon.core.machine.catalogue import Catalogue, Tool
from dokimon.core.machine.once import Once
from dokimon.core.machine.platform import own_folder
from dokimon.core.machine.survey import Survey, Surveyor
from dokimon.core.reading.manifest import Manifest, ManifestFault, open_manifest
from dokimon.core.report.model import Project
from dokimon.core.settings.model import Settings
from dokimon.core.settings.needs import added_tools
from dokimon.core.settings.read import read_settings
from dokimon.core.settings.tables import Problem, SettingsFault
from dokimon.core.text import clean


class Workspace(msgspec.Struct, frozen=True, kw_only=True):
    """The folder that was asked about, the checkout around it, its settings and their file, and the catalogue."""

    start: Path
    checkout: Checkout
    settings: Settings
    manifest: Manifest | None
    catalogue: Catalogue

    @property
    def project(self) -> Project:
        """The project as the report names it."""
        checkout = self.checkout
        below = checkout.project.relative_to(checkout.root).as_posix()
        name = self.settings.project.name or checkout.project.name or str(checkout.root)
        folder = None if below == "." else clean(below)
        return Project(root=clean(str(checkout.root)), name=clean(name, 80), folder=folder)


def open_workspace(start: Path, environment: Mapping[str, str], may_ask: Collection[str] = ()) -> Workspace:
    """Open the checkout that holds the folder `start`; `may_ask` as for `Catalogue`.

    Raises `SettingsFault` when its `dokimon.toml` cannot be used.
    """
    checkout = find_checkout(start)
    settings, manifest = _load_settings(checkout)
    folder = outside(own_folder("config", environment), checkout)
    catalogue = Catalogue(folder / "catalogue" if folder else None, added_tools(settings), may_ask)
    return Workspace(start=start, checkout=checkout, settings=settings, manifest=manifest, catalogue=catalogue)


def outside(folder: Path | None, checkout: Checkout) -> Path | None:
    """Return a folder of Dokimon's own, unless variables put it into the checkout: whoever made that would fill it."""
    return None if folder is None or inside(folder, checkout.untrusted) else folder


def _load_settings(checkout: Checkout) -> tuple[Settings, Manifest | None]:
    """Return the settings of the checkout and the file they are from; empty ones and None without a `dokimon.toml`."""
    path = checkout.root / SETTINGS_FILE
    if not path.exists() and not path.is_symlink():
        return Settings(), None
    try:
        manifest = open_manifest(path, checkout.root)
        return read_settings(manifest), manifest
    except ManifestFault as wrong:
        raise SettingsFault(SETTINGS_FILE, [Problem(wrong.line, wrong.reason)]) from None


def surveyor_for(
    workspace: Workspace, folder: Path, environment: Mapping[str, str], *, fresh: bool, once: Once | None = None
) -> Surveyor:
    """Return what surveys this machine for `folder`; unless `fresh`, with the answers known from earlier surveys.

    `once` is shared by surveys for several checkouts, with the same environment.
    """
    checkout = workspace.checkout
    cache = Cache(outside(own_folder("cache", environment), checkout), fresh=fresh)
    return Surveyor(workspace.catalogue, folder, checkout.root, environment, cache, checkout.untrusted, once)


def notes_on_homes(tools: Iterable[Tool], survey: Survey, environment: Mapping[str, str]) -> list[str]:
    """Return what is odd about the variables that name the homes of these tools."""
    tools = [tool for tool in tools if any(environment.get(name) for name in tool.home_variables)]
    if not tools:
        return []
    from dokimon.core.machine.system import notes_on_variables

    return notes_on_variables(tools, survey.installations, environment)
