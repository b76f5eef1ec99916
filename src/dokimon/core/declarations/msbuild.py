"""What a project file of MSBuild says, worked out as far as it can be without running MSBuild.

Properties, imports, `Directory.Build.props`, target frameworks, packages and references (learn.microsoft.com, "MSBuild
project file schema"). What a `Condition` decides counts where nothing else is said.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from pathlib import Path

import msgspec

from dokimon.core.reading.manifest import Manifest, ManifestFault, open_manifest
from dokimon.core.reading.xml import Element, as_xml


def properties_of(project: Element) -> Iterator[Element]:
    """Yield the properties of a project file, each with the condition of its group."""
    for group in project.all("PropertyGroup"):
        for element in group.children:
            if "Condition" in group.attributes:
                element.attributes.setdefault("Condition", group.attributes["Condition"])
            yield element


def is_conditional(element: Element) -> bool:
    """Whether a condition decides, other than the usual one that nothing has been set before."""
    condition = element.attributes.get("Condition", "")
    return bool(condition) and not re.fullmatch(r"\s*'\$\(\w+\)'\s*==\s*''\s*", condition)


def known_of(project: Element, manifest: Manifest, depth: int = 0) -> dict[str, str]:
    """Return the properties of a project file by their names in small letters, those of the files it imports included."""
    known: dict[str, str] = {}
    for element in project.children:
        if element.name == "Import" and not is_conditional(element) and depth < _DEEPEST:
            above = re.search(r"GetPathOfFileAbove\(\s*'?([\w.]+)'?", element.attributes.get("Project", ""))
            if above and above[1] == _PROPS and manifest.path.parent != manifest.root:
                known |= props_above(manifest.path.parent.parent, manifest.root, depth + 1)
            elif imported := _imported(element.attributes.get("Project", ""), manifest):
                known |= known_of(as_xml(imported), imported, depth + 1)
        elif element.name == "PropertyGroup" and not is_conditional(element):
            known |= {each.name.lower(): each.text.strip() for each in element.children if not is_conditional(each)}
    return known


_PROPS = "Directory.Build.props"
_DEEPEST = 8
"""Files that import each other, at most."""


def _imported(path: str, manifest: Manifest) -> Manifest | None:
    """Return the file of the checkout that an `<Import>` names, or None: what MSBuild works out is left aside."""
    path = re.sub(r"^\$\(MSBuild(?:ThisFile|Project)Directory\)[\\/]?", "", path).replace("\\", "/")
    if not path or "$" in path or "*" in path:
        return None
    try:
        return open_manifest(manifest.path.parent / path, manifest.root)
    except ManifestFault:
        return None


def props_above(folder: Path, root: Path, depth: int = 0) -> dict[str, str]:
    """Return the properties of the nearest Directory.Build.props upward."""
    while True:
        try:
            above = open_manifest(folder / _PROPS, root)
            return known_of(as_xml(above), above, depth)
        except ManifestFault:
            pass
        if folder == root or root not in folder.parents:
            return {}
        folder = folder.parent


def frameworks_of(project: Element, known: Mapping[str, str]) -> tuple[list[str], Element | None]:
    """Return the target frameworks, in small letters, and the element that names them."""
    named = ("targetframeworks", "targetframework", "targetframeworkversion")
    elements = [each for each in properties_of(project) if each.name.lower() in named and each.text.strip()]
    sure = [each for each in elements if not is_conditional(each)] or elements
    if not sure:
        inherited = known.get("targetframeworks") or known.get("targetframework") or ""
        return frameworks_in(inherited, known), None
    element = sure[0]
    text = element.text.strip()
    if element.name.lower() == "targetframeworkversion":
        version = text.lower().removeprefix("v").replace(".", "")
        return [f"net{version}" if version[:1] in "1234" else "net40"], element  # Windows Phone and the like
    return frameworks_in(text, known), element


def frameworks_in(text: str, known: Mapping[str, str]) -> list[str]:
    """Return the target frameworks that a text lists, in small letters, each once."""
    for _ in range(5):
        text = re.sub(r"\$\((\w+)\)", lambda found: known.get(found[1].lower(), found[0]), text)[:2000]
    names = [each.strip().lower() for each in text.split(";") if each.strip()]
    if len(names) > 1:  # `$(TargetFrameworks);net8.0` adds to what something else may have set
        names = [each for each in names if each not in ("$(targetframeworks)", "$(targetframework)")]
    names = [re.sub(r"^net([5-9])(\d)(?=$|-)", r"net\1.\2", each) for each in names]  # net50 is read as net5.0
    return list(dict.fromkeys(names))


def included(project: Element, kind: str) -> list[str]:
    """Return what the items of a kind include, in their order."""
    return [each.attributes.get("Include", "") for each in project.all("ItemGroup", kind)]


def sdk_of(project: Element) -> str:
    """Return the SDK that builds the project: an attribute, or an element of its own; empty for old projects."""
    named = [each.attributes.get("Name", "") for each in project.children if each.name == "Sdk"]
    return project.attributes.get("Sdk", "") or next(iter(named), "")


_PROPERTY = re.compile(r"\$\((\w+)\)")


class MsProject(msgspec.Struct, frozen=True, kw_only=True):
    """A project file: its SDKs, its properties by their names in small letters, its target frameworks, the packages and the
    projects (as paths) that it references. `line` (from 1) is the one that says that it is a program, else the first.
    """

    path: Path
    line: int
    sdks: tuple[str, ...]
    properties: Mapping[str, str]
    frameworks: tuple[str, ...]
    packages: frozenset[str]
    references: tuple[Path, ...]

    def value(self, name: str) -> str:
        """Return a property with the others that it names put in; what MSBuild alone knows stays as it is."""
        text = self.properties.get(name, "")
        for _ in range(5):
            text = _PROPERTY.sub(lambda found: self.properties.get(found[1].lower(), found[0]), text)[:2000]
        return text

    def says(self, name: str) -> bool:
        """Whether a property is true."""
        return self.value(name).lower() == "true"

    @property
    def assembly(self) -> str:
        """The name of what it makes."""
        name = self.value("assemblyname")
        return self.path.stem if not name or "$" in name else name


def read_ms_project(path: Path, root: Path) -> MsProject | None:
    """Return what a project file says; None where it cannot be read, or holds no project."""
    try:
        manifest = open_manifest(path, root)
        project = as_xml(manifest)
        known = props_above(path.parent, root) | known_of(project, manifest)
    except ManifestFault:
        return None
    if project.name != "Project":
        return None
    named = [project.attributes.get("Sdk", ""), *(each.attributes.get("Name", "") for each in project.all("Sdk"))]
    named += [each.attributes.get("Sdk", "") for each in project.all("Import")]
    sdks = tuple(part.partition("/")[0].strip() for each in named for part in each.split(";") if part.strip())
    output = next((each.line for each in properties_of(project) if each.name.lower() == "outputtype"), project.line)
    references = [_path(path.parent, each) for each in included(project, "ProjectReference")]
    return MsProject(
        path=path,
        line=output,
        sdks=sdks,
        properties=known,
        frameworks=tuple(frameworks_of(project, known)[0]),
        packages=frozenset(each.lower() for each in included(project, "PackageReference")),
        references=tuple(each for each in references if each),
    )


def _path(folder: Path, named: str) -> Path | None:
    if not named or "$" in named or "*" in named:
        return None
    return (folder / named.replace("\\", "/")).resolve()
