"""C and C++: CMake, its presets, Meson, Conan and vcpkg."""

from __future__ import annotations

import re

from dokimon.core.declarations.requirement import (
    Requirement,
    Strength,
    any_version,
    brought,
    either,
    requirement,
    unreadable,
)
from dokimon.core.declarations.shapes import misfits
from dokimon.core.reading.manifest import Manifest, as_json
from dokimon.core.reading.text import matches
from dokimon.core.source import Source

_COMPILERS = {"C": ("gcc", "clang"), "CXX": ("g++", "clang++")}
_GENERATORS = {"ninja": "ninja", "ninja multi-config": "ninja", "unix makefiles": "make"}


def _compiler(language: str, source: Source) -> Requirement:
    tools = _COMPILERS[language]
    name = "C compiler" if language == "C" else "C++ compiler"
    compilers = [any_version(tool, source) for tool in tools]
    return either(compilers, source, f"the project is in {name.removesuffix(' compiler')}", name)


def _version_of(tool: str, wanted: str, language: str, source: Source) -> Requirement:
    """Return the requirement, unless it contains a variable of the build: only the build itself knows that."""
    if "$" in wanted or "@" in wanted:
        return unreadable(tool, source, f"{wanted} is worked out by {tool}, which is not run here")
    return requirement(tool, wanted, language, source)


def read_cmake(manifest: Manifest) -> list[Requirement]:
    """Read `cmake_minimum_required`, the languages of `project`, and `find_package` with a version or REQUIRED."""
    text = re.sub(r"#\[\[.*?\]\]|#[^\n]*", lambda m: "\n" * m[0].count("\n"), manifest.text, flags=re.DOTALL)[:500_000]
    found: list[Requirement] = []

    def calls(name: str) -> list[tuple[str, Source]]:
        pattern = re.compile(rf"^[ \t]*{name}\s*\(([^()]{{0,2000}})\)", re.IGNORECASE | re.MULTILINE)
        return [(m[1], manifest.source(text.count("\n", 0, m.start(1)) + 1)) for m in pattern.finditer(text)]

    for arguments, source in calls("cmake_minimum_required"):
        if least := re.search(r"VERSION\s+\"?([^\s\")]+)", arguments):
            found.append(_version_of("cmake", least[1], "cmake", source))
    for arguments, source in calls("project"):
        words = arguments.split()
        named = words[words.index("LANGUAGES") + 1 :] if "LANGUAGES" in words else words[1:]
        languages = [word for word in named if word in (*_COMPILERS, "NONE", "CUDA", "Fortran", "ASM", "Swift")]
        found += [_compiler(word, source) for word in (languages or ["C", "CXX"]) if word in _COMPILERS]
    for arguments, source in calls("find_package"):
        words = arguments.split()
        if not words or "$" in words[0]:
            continue
        version = words[1] if len(words) > 1 and re.match(r"\d", words[1]) else None
        strength: Strength = "required" if "REQUIRED" in words else "advised"
        if version and "$" not in version:
            found.append(requirement("library", version, "cmake", source, strength=strength, component=words[0]))
        elif strength == "required":
            found.append(any_version("library", source, component=words[0]))
    if not any(each.tool == "cmake" for each in found) and manifest.path.parent == manifest.root:
        found.append(any_version("cmake", manifest.source(1), "a CMakeLists.txt is CMake's"))
    return found


_PRESETS = {
    "cmakeMinimumRequired": "table",
    "cmakeMinimumRequired.*": "whole number",
    "configurePresets": "list",
    "configurePresets.*": "table",
    "configurePresets.*.generator": "text",
}
_VCPKG = {
    "dependencies": "list",
    "dependencies.*": "text or table",
    "dependencies.*.name": "text",
    "dependencies.*.version>=": "text",
}


def read_presets(manifest: Manifest) -> list[Requirement]:
    """Read the minimum that the presets name, and the generators that they use (cmake-presets(7))."""
    presets = as_json(manifest)
    least = presets.get("cmakeMinimumRequired")
    found = misfits(manifest, presets, _PRESETS, "cmake")
    if isinstance(least, dict):
        version = ".".join(str(least.get(part, 0)) for part in ("major", "minor", "patch"))
        source = manifest.json_source("cmakeMinimumRequired")
        found.append(requirement("cmake", version, "cmake", source))
    seen = set()
    listed = presets.get("configurePresets")
    for index, preset in enumerate(listed if isinstance(listed, list) else []):
        generator = str(preset.get("generator", "")).lower() if isinstance(preset, dict) else ""
        tool = _GENERATORS.get(generator)
        if tool and tool not in seen:
            seen.add(tool)
            source = manifest.json_source("configurePresets", index, "generator")
            found.append(any_version(tool, source, "a preset generates for it"))
    return found


def read_meson(manifest: Manifest) -> list[Requirement]:
    """Read `meson_version`, the languages, and the versions of `dependency`."""
    found = []
    for match, line in matches(manifest, r"\bmeson_version\s*:\s*'([^']+)'"):
        found.append(_version_of("meson", match[1], "plain", manifest.source(line)))
    for match, line in matches(manifest, r"^\s*project\s*\(\s*'[^']*'\s*,\s*(?:\[)?((?:'[a-z]+'[\s,]*)+)"):
        for word, language in (("'c'", "C"), ("'cpp'", "CXX")):
            if word in match[1]:
                found.append(_compiler(language, manifest.source(line)))
    for match, line in matches(manifest, r"\bdependency\s*\(\s*'([^']+)'[^)]*?\bversion\s*:\s*'([^']+)'"):
        if "@" not in match[2]:
            found.append(requirement("library", match[2], "plain", manifest.source(line), component=match[1]))
    if not any(each.tool == "meson" for each in found) and manifest.path.parent == manifest.root:
        found.append(any_version("meson", manifest.source(1), "a meson.build is Meson's"))
    return found


def read_conan(manifest: Manifest) -> list[Requirement]:
    """A Conan file needs Conan, in the version that `required_conan_version` names."""
    for match, line in matches(manifest, r"\brequired_conan_version\s*=\s*[\"']([^\"']+)[\"']"):
        return [requirement("conan", match[1], "pep440", manifest.source(line))]
    return [any_version("conan", manifest.source(1), "it brings the libraries that the file names")]


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
