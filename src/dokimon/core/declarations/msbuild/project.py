"""A project of MSBuild as the rest of Dokimon asks it: its SDKs, target frameworks, packages, references, properties."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path

import msgspec

from dokimon.core.declarations.msbuild.evaluating import Evaluation, Setting, evaluate, sdks_of
from dokimon.core.reading.manifest import Manifest, ManifestFault, open_manifest
from dokimon.core.reading.xml import as_xml

_OLD = "targetframeworkversion"
_MOST_FRAMEWORKS = 30
"""Of one project: more than anybody builds for."""


class MsProject(msgspec.Struct, frozen=True, kw_only=True):
    """A project file: its SDKs, its properties by their names in small letters, its target frameworks, the packages, the
    shared frameworks and the projects (as paths) that it references.

    Of several target frameworks the properties are those that hold for all builds; see `project_of`. `line` (from 1) is
    the one that says that it is a program, else the first. `settings` tell where a property was set.
    """

    path: Path
    manifest: Manifest
    line: int
    sdks: tuple[str, ...]
    properties: Mapping[str, str]
    settings: Mapping[str, Setting]
    frameworks: tuple[str, ...]
    packages: frozenset[str]
    shared: frozenset[str]
    references: tuple[Path, ...]

    def value(self, name: str) -> str:
        """Return a property, by its name in small letters; what only MSBuild knows stays as it is written."""
        return self.properties.get(name, "").strip()

    def says(self, name: str) -> bool:
        """Whether a property is true."""
        return self.value(name).lower() == "true"

    @property
    def assembly(self) -> str:
        """The name of what it makes."""
        name = self.value("assemblyname")
        return self.path.stem if not name or "$" in name else name

    def named_in(self) -> str:
        """The property that names the target frameworks, in small letters; empty where there is none."""
        names = ("targetframework", "targetframeworks", _OLD)
        return next((name for name in names if name in self.settings and self.value(name)), "")


def read_ms_project(path: Path, root: Path) -> MsProject | None:
    """Return what a project file says; None where it cannot be read, or holds no project."""
    try:
        return project_of(open_manifest(path, root))
    except ManifestFault:
        return None


def project_of(manifest: Manifest, framework: str | None = None) -> MsProject | None:
    """Return what a project file says, built for one of its target frameworks where that is given.

    None where it holds no project; raises `ManifestFault` where it is no XML.
    """
    element = as_xml(manifest)
    if element.name != "Project":
        return None
    found = evaluate(manifest, element, {"TargetFramework": framework} if framework else None)
    kinds = {kind: [each.include for each in found.items if each.kind == kind] for kind in _KINDS}
    output = found.settings.get("outputtype")
    references = (_path(manifest.path.parent, each) for each in kinds["projectreference"])
    return MsProject(
        path=manifest.path,
        manifest=manifest,
        line=output.line if output and output.manifest is manifest else element.line,
        sdks=tuple(sdks_of(element)),
        properties=found.values,
        settings=found.settings,
        frameworks=tuple(_frameworks_of(found)),
        packages=frozenset(each.lower() for each in kinds["packagereference"]),
        shared=frozenset(kinds["frameworkreference"]),
        references=tuple(each for each in references if each),
    )


_KINDS = ("packagereference", "frameworkreference", "projectreference")


def _frameworks_of(found: Evaluation) -> list[str]:
    """One target framework counts before several (Microsoft.NET.Sdk.targets, IsCrossTargetingBuild)."""
    if one := found.values.get("targetframework", ""):
        return frameworks_in(one)
    if several := found.values.get("targetframeworks", ""):
        return frameworks_in(several)
    if _OLD in found.settings:
        version = found.values[_OLD].lower().removeprefix("v").replace(".", "")
        return [f"net{version}" if version[:1] in "1234" else "net40"]  # Windows Phone and the like
    return []


def frameworks_in(text: str) -> list[str]:
    """Return the target frameworks that a text lists, in small letters, each once."""
    names = [each.strip().lower() for each in text.split(";") if each.strip()]
    names = [re.sub(r"^net([5-9])(\d)(?=$|-)", r"net\1.\2", each) for each in names]  # net50 is read as net5.0
    return list(dict.fromkeys(names))[:_MOST_FRAMEWORKS]


def _path(folder: Path, named: str) -> Path | None:
    if not named or "$" in named or "*" in named:
        return None
    return (folder / named.replace("\\", "/")).resolve()
