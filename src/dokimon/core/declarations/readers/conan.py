"""Package managers of C and C++: Conan and vcpkg, which bring the libraries that their files name."""

from __future__ import annotations

import re

import msgspec

from dokimon.core.declarations.requirement import Requirement, any_version, brought, requirement
from dokimon.core.declarations.shapes import misfits
from dokimon.core.reading.manifest import Manifest, as_json
from dokimon.core.reading.text import matches

_VCPKG = {
    "dependencies": "list",
    "dependencies.*": "text or table",
    "dependencies.*.name": "text",
    "dependencies.*.version>=": "text",
}


def read_conan(manifest: Manifest) -> list[Requirement]:
    """A Conan file needs Conan, in the version that `required_conan_version` names; the libraries it names are facts."""
    found = []
    for match, line in matches(manifest, r"\brequired_conan_version\s*=\s*[\"']([^\"']+)[\"']"):
        found.append(requirement("conan", re.sub(r"\s+(?=[<>])", ", ", match[1]), "pep440", manifest.source(line)))
    if not found:
        found.append(any_version("conan", manifest.source(1), "it brings the libraries that the file names"))
    for match, line in matches(manifest, r"(?:^|[\"'\s(])([a-z0-9_][\w+.-]+)/(\[[^\]\n]{1,80}\]|\d[\w.+-]*)(?:@\S*)?"):
        wanted, source = match[2], manifest.source(line)
        if wanted.startswith("["):
            text = re.sub(r"\s+(?=[<>])", ", ", wanted[1:-1].split(",include_prerelease")[0].strip())
            language = "npm" if re.match(r"[~^*]", text) else "plain"
            need = requirement("library", text, language, source, component=match[1])
        else:
            need = requirement("library", wanted, "plain", source, component=match[1])
        if not need.fault:
            found.append(brought(msgspec.structs.replace(need, why="Conan brings it")))
    return found


def read_vcpkg(manifest: Manifest) -> list[Requirement]:
    """A vcpkg manifest needs vcpkg, which brings the libraries that it names: those are facts."""
    found = [any_version("vcpkg", manifest.source(1), "it brings the libraries that the file names")]
    data = as_json(manifest)
    found += misfits(manifest, data, _VCPKG, "vcpkg")
    listed = data.get("dependencies")
    for index, entry in enumerate(listed if isinstance(listed, list) else []):
        least = entry.get("version>=") if isinstance(entry, dict) else None
        if isinstance(least, str) and isinstance(entry.get("name"), str):
            source = manifest.json_source("dependencies", index, "version>=")
            wanted = f">={least.partition('#')[0]}"
            found.append(brought(requirement("library", wanted, "plain", source, component=entry["name"])))
    return found
