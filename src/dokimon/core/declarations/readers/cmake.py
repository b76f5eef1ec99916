"""CMake and its presets, read as text."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from itertools import pairwise
from typing import NamedTuple

import msgspec

from dokimon.core.declarations.compatibility import compatibility
from dokimon.core.declarations.readers.compilers import COMPILED, compiler, standard
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
from dokimon.core.expressions import expression
from dokimon.core.reading.manifest import Manifest, as_json, line_at
from dokimon.core.source import Source

_GENERATORS = {"ninja": "ninja", "ninja multi-config": "ninja", "unix makefiles": "make"}


def _version_of(tool: str, wanted: str, language: str, source: Source) -> Requirement:
    """Return the requirement, unless it contains a variable of the build: only the build itself knows that."""
    if "$" in wanted or "@" in wanted:
        return unreadable(tool, source, f"{wanted} is worked out by {tool}, which is not run here")
    return requirement(tool, wanted, language, source)


_TOOLS = {
    "Python3": "python", "Python": "python", "Python2": "python", "PythonInterp": "python", "Git": "git", "Java": "java",
    "JNI": "java", "Perl": "perl", "Doxygen": "doxygen", "FLEX": "flex", "BISON": "bison", "SWIG": "swig", "Ruby": "ruby",
    "PkgConfig": "pkg-config", "Rust": "rustc", "Protobuf": "protoc", "NodeJS": "node", "Ccache": "ccache",
}  # fmt: skip
"""What `find_package` finds that are tools, not libraries (cmake-modules(7))."""

_ALWAYS_THERE = frozenset({"Threads", "OpenMP", "GNUInstallDirs", "CTest", "FindPackageHandleStandardArgs"})
"""What comes with the compiler or with CMake itself."""

_LANGUAGES = frozenset(
    {"C", "CXX", "NONE", "CUDA", "Fortran", "ASM", "ASM_NASM", "Swift", "OBJC", "OBJCXX", "HIP", "CSharp"}
)
_OTHER_COMPILERS = {"CUDA": "nvcc", "Fortran": "gfortran", "Swift": "swift", "ASM_NASM": "nasm"}
_KEYWORDS = ("VERSION", "DESCRIPTION", "HOMEPAGE_URL", "LANGUAGES", "COMPAT_VERSION", "SPDX_LICENSE")


class _Call(NamedTuple):
    """A call of a command: its words, those in quotes as one each; whether an `if()` around it decides; its source."""

    words: list[str]
    guarded: bool
    source: Source


_COMMAND = expression(r"^[ \t]*([A-Za-z_]\w*)\s*\(((?:[^()\"]|\"(?:[^\"\\]|\\.)*\"){0,4000})\)", re.MULTILINE)
_WORD = expression(r'"((?:[^"\\]|\\.)*)"|([^\s"]+)')
_CERTAIN_CONDITION = expression(r"(?i)^[ \t]*(?:NOT\s+)?(?:DEFINED\s+)?(?:TARGET\s+\S+|CMAKE_VERSION.*|TRUE|ON|1)\s*$")


def _calls(manifest: Manifest) -> Iterator[tuple[str, _Call]]:
    """Yield the commands of a CMakeLists.txt, by name in small letters; comments are left out."""
    text = re.sub(
        r'"(?:[^"\\]|\\.)*"|#\[\[.*?\]\]|#[^\n]*',
        lambda found: found[0] if found[0][0] == '"' else "\n" * found[0].count("\n"),
        manifest.text[:500_000],
        flags=re.DOTALL,
    )
    guards: list[bool] = []
    known: dict[str, str] = {}
    for found in _COMMAND.finditer(text):
        name = found[1].lower()
        if name in ("if", "function", "macro"):
            guards.append(name != "if" or not _CERTAIN_CONDITION.match(found[2]))
        elif name in ("elseif", "else") and guards:
            guards[-1] = True
        elif name in ("endif", "endfunction", "endmacro") and guards:
            guards.pop()
        elif name in _READ:
            words = [one[1] if one[1] is not None and one[2] is None else one[2] for one in _WORD.finditer(found[2])]
            words = [_filled(word, known) for word in words]
            if name == "set" and len(words) == 2:
                known[words[0]] = "" if any(guards) else words[1]
            yield name, _Call(words, any(guards), manifest.source(line_at(text, found.start(1))))


def _filled(word: str, known: Mapping[str, str]) -> str:
    """Return a word with the variables that the file has set, once and for all builds."""
    return re.sub(r"\$\{(\w+)\}", lambda found: known.get(found[1]) or found[0], word)[:2000] if "${" in word else word


_READ = ("cmake_minimum_required", "project", "find_package", "set", "enable_language", "include", "pkg_check_modules",
    "pkg_search_module", "target_compile_features", "set_property", "set_target_properties", "fetchcontent_declare",
    "cpmaddpackage")  # fmt: skip
_SET_STANDARDS = ("set", "target_compile_features", "set_property", "set_target_properties")
_BROUGHT_BY = {"fetchcontent_declare": "FetchContent", "cpmaddpackage": "CPM"}
"""Commands that bring a library into the build by themselves."""


def read_cmake(manifest: Manifest) -> list[Requirement]:
    """Read `cmake_minimum_required`, the languages of `project`, the standards of C and C++, and `find_package`.

    What an `if()` decides is advice. Tools that `find_package` finds are tools; what a package manager of the project's own
    (vcpkg, Conan) brings is not asked of the system.
    """
    calls = list(_calls(manifest))
    least = [
        _version_of("cmake", version, "cmake", call.source)
        for name, call in calls
        if name == "cmake_minimum_required" and (version := _after(call.words, "VERSION"))
    ]
    if not least and manifest.path.parent == manifest.root:
        least.append(any_version("cmake", manifest.source(1), "a CMakeLists.txt is CMake's"))
    cross = next((need for name, call in calls if (need := _for_another_machine(name, call))), None)
    found = [*least, *([cross] if cross else _of_this_machine(calls, manifest))]
    kept: dict[tuple[str, str], Requirement] = {}
    for each in sorted(found, key=lambda need: need.strength == "advised"):
        kept.setdefault((each.label, each.wanted), each)
    return list(kept.values())


def _of_this_machine(calls: list[tuple[str, _Call]], manifest: Manifest) -> Iterator[Requirement]:
    """Yield the compilers and the libraries of a project that is built for this machine."""
    brought_by = _package_manager(manifest)
    fetched = {_name_of(call).lower(): _BROUGHT_BY[name] for name, call in calls if name in _BROUGHT_BY}
    for name, call in calls:
        if name in ("project", "enable_language"):
            yield from _languages(name, call)
        elif name in _SET_STANDARDS:
            yield from _standards(name, call)
        elif name == "find_package":
            yield from _found_package(call, fetched.get(call.words[0].lower() if call.words else "", brought_by))
        elif name in ("pkg_check_modules", "pkg_search_module"):
            yield from _modules(name, call, brought_by)


def _for_another_machine(name: str, call: _Call) -> Requirement | None:
    """Return the tool that builds a project for another machine: no compiler of this one is needed then."""
    text = f"{name}({' '.join(call.words)}"
    if name == "include" and "tools/cmake/project.cmake" in text:
        return any_version("esp-idf", call.source, "the project is built by ESP-IDF")
    for start, (tool, why) in _CROSS.items():
        if text.startswith(start):
            return any_version(tool, call.source, why)
    return None


def _name_of(call: _Call) -> str:
    """Return what FetchContent or CPM brings: its first word, or what stands behind NAME; of `gh:fmtlib/fmt#10` fmt."""
    name = _after(call.words, "NAME") or (call.words[0] if call.words else "")
    return re.split(r"[#@]", name)[0].rpartition("/")[2]


_CROSS = {
    "include(pico_sdk_import.cmake": ("arm-none-eabi-gcc", "the Pico SDK builds with it"),
    "find_package(Zephyr": ("west", "the project is built for Zephyr"),
}
"""How projects for another machine begin, the tool that builds them, and why."""


def _after(words: list[str], keyword: str) -> str | None:
    return words[words.index(keyword) + 1] if keyword in words[:-1] else None


def _languages(name: str, call: _Call) -> list[Requirement]:
    words = call.words
    if name == "project":
        if "LANGUAGES" in words:
            words = words[words.index("LANGUAGES") + 1 :]
        else:  # each keyword takes one word; what is left are languages
            rest, skip = [], False
            for word in words[1:]:
                if skip or word in _KEYWORDS:
                    skip = not skip and word in _KEYWORDS
                    continue
                rest.append(word)
            words = rest
    languages = [word for word in words if word in _LANGUAGES]
    if name == "project" and not languages:
        languages = ["C", "CXX"]
    needs = [compiler(word, call.source) for word in languages if word in COMPILED]
    needs += [
        any_version(_OTHER_COMPILERS[word], call.source, f"the project is in {word}")
        for word in languages
        if word in _OTHER_COMPILERS
    ]
    return [_advised(each) for each in needs] if call.guarded else needs


def _advised(need: Requirement) -> Requirement:
    return msgspec.structs.replace(need, strength="advised")


def _standards(name: str, call: _Call) -> list[Requirement]:
    """Return the compilers that a standard asks for: a variable, a property, a feature (cmake-properties(7))."""
    words = call.words
    found: list[Requirement] = []
    for before, after in pairwise(words):
        if named := re.fullmatch(r"(?:CMAKE_)?(CXX|C)_STANDARD", before):
            found += standard(named[1], after, call.source)
    if name == "target_compile_features":
        for word in words:
            if feature := re.fullmatch(r"(cxx|c)_std_(\d\d)", word):
                found += standard(feature[1].upper(), feature[2], call.source)
    return [_advised(each) for each in found] if call.guarded else found


def _package_manager(manifest: Manifest) -> str | None:
    """Return the package manager that brings the project's libraries: its file lies beside, or at the root."""
    for folder in (manifest.path.parent, manifest.root):
        for file, tool in (("vcpkg.json", "vcpkg"), ("conanfile.txt", "Conan"), ("conanfile.py", "Conan")):
            if (folder / file).is_file():
                return tool
    return None


def _found_package(call: _Call, brought_by: str | None) -> list[Requirement]:
    words = call.words
    if not words or "$" in words[0] or words[0] in _ALWAYS_THERE:
        return []
    version = words[1] if len(words) > 1 and re.match(r"\d", words[1]) else None
    if version and "$" in version:
        version = None
    language = "cmake"
    if version and "EXACT" in words:
        language = "plain"
    elif version and (
        ends := re.fullmatch(r"([\d.]+?)\.\.\.(\d[\d.]*)", version)
    ):  # here the end counts, itself included
        version, language = f">={ends[1]}, <={ends[2]}", "plain"
    strength: Strength = "required" if "REQUIRED" in words and not call.guarded else "advised"
    if strength == "advised" and not version and "REQUIRED" not in words:
        return []
    tool = _TOOLS.get(words[0])
    if tool:
        if version and words[0] not in ("Protobuf",):
            return [requirement(tool, version, language, call.source, strength=strength)]
        return [any_version(tool, call.source, strength=strength)]
    if version:
        need = requirement("library", version, language, call.source, strength=strength, component=words[0])
    else:
        need = any_version("library", call.source, component=words[0], strength=strength)
    return [brought(msgspec.structs.replace(need, why=f"{brought_by} brings it"))] if brought_by else [need]


def _modules(command: str, call: _Call, brought_by: str | None) -> list[Requirement]:
    """`pkg_check_modules(GLIB REQUIRED glib-2.0>=2.60)` asks pkg-config for modules, `pkg_search_module` for one of them
    (FindPkgConfig).
    """
    words = [word for word in call.words[1:] if word not in ("QUIET", "IMPORTED_TARGET", "GLOBAL", "NO_CMAKE_PATH")]
    strength: Strength = "required" if "REQUIRED" in words and not call.guarded else "advised"
    found = []
    for word in (word for word in words if word != "REQUIRED" and "$" not in word):
        parts = re.fullmatch(r"([\w.+-]+?)(?:(>=|<=|=|>|<)(\d[\w.]*))?", word)
        if parts is None:
            continue
        if parts[2]:
            wanted = f"{parts[2]}{parts[3]}"
            need = requirement("library", wanted, "plain", call.source, strength=strength, component=parts[1])
        else:
            need = any_version("library", call.source, component=parts[1], strength=strength)
        found.append(brought(need) if brought_by else need)
    if command == "pkg_search_module" and len(found) > 1 and not brought_by:
        name = f"library {' or '.join(each.component or '' for each in found)}"
        one_of = either(found, call.source, "one of them is enough", name)
        return [msgspec.structs.replace(one_of, strength=strength)]
    return found


_PRESETS = {
    "version": "whole number",
    "cmakeMinimumRequired": "table",
    "cmakeMinimumRequired.*": "whole number",
    "configurePresets": "list",
    "configurePresets.*": "table",
    "configurePresets.*.generator": "text",
}


def read_presets(manifest: Manifest) -> list[Requirement]:
    """Read the minimum that the presets name, and the generators that they use (cmake-presets(7))."""
    presets = as_json(manifest)
    least = presets.get("cmakeMinimumRequired")
    first = compatibility()["presets"].get(str(presets.get("version")))
    found = misfits(manifest, presets, _PRESETS, "cmake")
    if isinstance(least, dict):
        version = ".".join(str(least.get(part, 0)) for part in ("major", "minor", "patch"))
        source = manifest.json_source("cmakeMinimumRequired")
        found.append(requirement("cmake", version, "cmake", source))
    if first:
        source, why = manifest.json_source("version"), f"it reads presets of version {presets.get('version')}"
        found.append(requirement("cmake", f">={first}", "plain", source, why=why))
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
