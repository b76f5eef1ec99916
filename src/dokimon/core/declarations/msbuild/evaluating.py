"""Going through a project file and what it imports, in MSBuild's order (learn.microsoft.com, "How MSBuild builds projects").

First all properties, from top to bottom, then the items with the properties as they ended. What is around the project of an
SDK is `Directory.Build.props` before it and `Directory.Build.targets` after it.
"""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping
from functools import lru_cache
from pathlib import Path

import msgspec

from dokimon.core.declarations.msbuild.conditions import holds
from dokimon.core.declarations.msbuild.expressions import SYSTEM, Scope, expand, framework_parts, is_known
from dokimon.core.reading.manifest import Manifest, ManifestFault, open_manifest
from dokimon.core.reading.xml import Element, as_xml

_MOST_FILES, _MOST_OF_ONE_IMPORT = 100, 20
"""That are imported, each time counted: more than any project has, and files that import each other end there."""

BEFORE, AFTER = "Directory.Build.props", "Directory.Build.targets"

_ALWAYS = {
    "os": "Windows_NT" if SYSTEM == "windows" else "Unix", "msbuildruntimetype": "Core", "solutiondir": "*Undefined*",
    "solutionname": "*Undefined*",
}  # fmt: skip
_AT_FIRST = {"configuration": "Debug", "platform": "AnyCPU"}
"""What the SDK sets before the project where nothing has, as the output type and the name of what is made."""

_PROGRAMS = ("Microsoft.NET.Sdk.Web", "Microsoft.NET.Sdk.Worker", "Microsoft.NET.Sdk.BlazorWebAssembly")
"""SDKs whose projects are programs unless they say otherwise."""


class Setting(msgspec.Struct, frozen=True):
    """Where a property got its value: the file and the line (from 1)."""

    manifest: Manifest
    line: int


class Item(msgspec.Struct, frozen=True):
    """What an item includes, and its kind in small letters."""

    kind: str
    include: str


class Evaluation(msgspec.Struct, frozen=True, kw_only=True):
    """What a project ends up with: the properties by their names in small letters, where each was set, and the items."""

    values: Mapping[str, str]
    settings: Mapping[str, Setting]
    items: tuple[Item, ...]


def evaluate(manifest: Manifest, project: Element, given: Mapping[str, str] | None = None) -> Evaluation:
    """Evaluate a project file; the properties that are `given` stay as they are, as those of a command line do.

    Raises nothing: an import that cannot be read is left out.
    """
    return _Evaluator(manifest, given or {}).run(project)


class _Evaluator:
    def __init__(self, manifest: Manifest, given: Mapping[str, str]) -> None:
        self._given = {name.lower(): value for name, value in given.items()}
        self._scope = Scope(
            values={**_ALWAYS, **self._given}, file=manifest.path, project=manifest.path, root=manifest.root
        )
        self._manifest = manifest
        self._settings: dict[str, Setting] = {}
        self._groups: list[tuple[Element, Manifest]] = []
        self._files = 0
        self._sdks: tuple[str, ...] = ()
        self._open: list[Path] = []

    def run(self, project: Element) -> Evaluation:
        self._sdks = tuple(sdks_of(project))
        whole = self._sdks and not any("Sdk" in each.attributes for each in project.all("Import"))
        if whole:
            self._of_the_sdk("Sdk.props")
        self._walk(project, self._manifest)
        if whole:
            self._of_the_sdk("Sdk.targets")
        return Evaluation(values=self._scope.values, settings=self._settings, items=tuple(self._items()))

    def _of_the_sdk(self, name: str) -> None:
        """Do what a part of the SDK does around the project: an attribute or element names both, an import each."""
        values = self._scope.values
        if name.lower() == "sdk.props":
            values.setdefault("usingmicrosoftnetsdk", "true")
            self._around(BEFORE)
            is_program = any(sdk.startswith(_PROGRAMS) for sdk in self._sdks)
            at_first = {
                **_AT_FIRST,
                "outputtype": "Exe" if is_program else "Library",
                "assemblyname": self._manifest.path.stem,
            }
            for key, value in at_first.items():
                values[key] = values.get(key) or value
        elif name.lower() == "sdk.targets":
            values["outputtype"] = values.get("outputtype") or "exe"
            self._infer()
            self._around(AFTER)

    def _around(self, name: str) -> None:
        """Import the nearest file of this name upward."""
        switch = f"import{name.replace('.', '')}".lower()
        if self._scope.values.get(switch, "").lower() == "false":
            return
        folder, root = self._manifest.path.parent, self._manifest.root
        while folder.is_relative_to(root):
            if (folder / name).is_file():
                self._import(folder / name)
                return
            folder = folder.parent

    def _infer(self) -> None:
        """Set what the SDK works out of the target framework, before what is around the project's end."""
        kind, version, platform = framework_parts(self._scope.values.get("targetframework", ""))
        if kind:
            inferred = {"targetframeworkidentifier": kind, "targetframeworkversion": f"v{version}"}
            for name, value in {**inferred, "targetplatformidentifier": platform}.items():
                self._scope.values.setdefault(name, value)

    def _walk(self, element: Element, manifest: Manifest) -> None:
        for child in element.children:
            if child.name in ("PropertyGroup", "Import", "ImportGroup", "Choose", "ItemGroup"):
                self._scope.file = manifest.path
                self._child(child, manifest)

    def _child(self, child: Element, manifest: Manifest) -> None:
        if child.name == "Choose":
            self._choose(child, manifest)
            return
        if child.name == "ItemGroup":
            self._groups.append((child, manifest))  # its condition is decided with the properties as they end
            return
        met = self._met(child)
        if met is False:
            return
        if child.name == "PropertyGroup":
            for each in child.children:
                self._set(each, manifest, met)
        elif child.name == "ImportGroup":
            self._walk(child, manifest)
        elif met and "Sdk" in child.attributes:
            self._of_the_sdk(child.attributes.get("Project", ""))
        elif met:
            self._imports(child.attributes.get("Project", ""), manifest)

    def _met(self, element: Element) -> bool | None:
        """Whether a condition is met; `Exists` looks beside the file in groups and imports, else beside the project."""
        of_file = element.name in ("PropertyGroup", "Import", "ImportGroup")
        folder = (self._scope.file if of_file else self._scope.project).parent
        return holds(element.attributes.get("Condition", ""), self._scope, folder)

    def _choose(self, element: Element, manifest: Manifest) -> None:
        ways = (each for each in element.children if each.name in ("When", "Otherwise"))
        taken = next((each for each in ways if each.name == "Otherwise" or self._met(each) is not False), None)
        if taken:
            self._walk(taken, manifest)

    def _set(self, element: Element, manifest: Manifest, met: bool | None) -> None:
        """Set a property; where its condition cannot be decided, only if nothing else has."""
        name, own = element.name.lower(), self._met(element)
        if own is False or name in self._given:
            return
        sure = met is True and own is True
        if not sure and name in self._scope.values:
            return
        self._scope.values[name] = expand(element.text, self._scope)
        self._settings[name] = Setting(manifest, element.line)

    def _imports(self, written: str, manifest: Manifest) -> None:
        text = expand(written, self._scope).replace("\\", "/").strip()
        if not text or not is_known(text):
            return
        pattern = text.rpartition("/")
        folder = Path(os.path.normpath(manifest.path.parent / pattern[0]))
        names = [folder / pattern[2]]
        if "*" in pattern[2]:
            inside = folder.is_relative_to(self._manifest.root) and folder.is_dir()
            names = sorted(folder.glob(pattern[2]))[:_MOST_OF_ONE_IMPORT] if inside and "*" not in pattern[0] else []
        for path in names:
            self._import(path)

    def _import(self, path: Path) -> None:
        """Go through a file of the checkout; one that is open already, is not there, or lies elsewhere, is left out."""
        self._files += 1
        if self._files > _MOST_FILES or path in self._open:
            return
        try:
            stamp = path.stat()
            manifest, project = _opened(path, self._manifest.root, stamp.st_mtime_ns, stamp.st_size)
        except (ManifestFault, OSError):
            return
        before = self._scope.file
        self._open.append(path)
        self._walk(project, manifest)
        self._open.pop()
        self._scope.file = before

    def _items(self) -> Iterator[Item]:
        for group, manifest in self._groups:
            self._scope.file = manifest.path
            if self._met(group) is False:
                continue
            for each in group.children:
                include = each.attributes.get("Include", "")
                if not include or self._met(each) is False:
                    continue
                for one in expand(include, self._scope).split(";"):
                    if one.strip():
                        yield Item(each.name.lower(), one.strip())


@lru_cache(maxsize=256)
def _opened(path: Path, root: Path, _written: int, _size: int) -> tuple[Manifest, Element]:
    """Return a file of the checkout as it is now, and what is in it: many projects import the same.

    Raises `ManifestFault` where it cannot be read.
    """
    manifest = open_manifest(path, root)
    return manifest, as_xml(manifest)


def is_of_an_sdk(project: Element) -> bool:
    """Whether an SDK builds the project (learn.microsoft.com, "Use MSBuild project SDKs"); old projects name none."""
    return bool(next(sdks_of(project), None))


def sdks_of(project: Element) -> Iterator[str]:
    """Yield the SDKs that a project names, without their versions: an attribute, elements, or imports."""
    named = [project.attributes.get("Sdk", ""), *(each.attributes.get("Name", "") for each in project.all("Sdk"))]
    named += [each.attributes.get("Sdk", "") for each in project.all("Import")]
    for part in ";".join(named).split(";"):
        if name := part.partition("/")[0].strip():
            yield name
