"""C and C++: CMake, its presets, Meson, Conan and vcpkg."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple

import msgspec

from dokimon.core.declarations.compatibility import compatibility
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
from dokimon.core.reading.manifest import Manifest, as_json, line_at
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

_STANDARD = {
    "17": (("g++", ">=7"), ("clang++", ">=5")), "20": (("g++", ">=10"), ("clang++", ">=10")),
    "23": (("g++", ">=13"), ("clang++", ">=17")), "26": (("g++", ">=14"), ("clang++", ">=18")),
    "14": (("g++", ">=5"), ("clang++", ">=3.4")), "11": (("g++", ">=4.8"), ("clang++", ">=3.3")),
}  # fmt: skip
"""The compilers that have a standard of C++ (gcc.gnu.org/projects/cxx-status.html, clang.llvm.org/cxx_status.html)."""


class _Call(NamedTuple):
    """A call of a command: its words, those in quotes as one each; whether an `if()` around it decides; its source."""

    words: list[str]
    guarded: bool
    source: Source


_COMMAND = re.compile(r"^[ \t]*([A-Za-z_]\w*)\s*\(((?:[^()\"]|\"(?:[^\"\\]|\\.)*\"){0,4000})\)", re.MULTILINE)
_WORD = re.compile(r'"((?:[^"\\]|\\.)*)"|([^\s"]+)')
_CERTAIN_CONDITION = re.compile(r"(?i)^\s*(?:NOT\s+)?(?:DEFINED\s+)?(?:TARGET\s+\S+|CMAKE_VERSION.*|TRUE|ON|1)\s*$")


def _calls(manifest: Manifest) -> Iterator[tuple[str, _Call]]:
    """Yield the commands of a CMakeLists.txt, by name in small letters; comments are left out."""
    text = re.sub(
        r'"(?:[^"\\]|\\.)*"|#\[\[.*?\]\]|#[^\n]*',
        lambda found: found[0] if found[0][0] == '"' else "\n" * found[0].count("\n"),
        manifest.text[:500_000],
        flags=re.DOTALL,
    )
    guards: list[bool] = []
    for found in _COMMAND.finditer(text):
        name = found[1].lower()
        if name == "if":
            guards.append(not _CERTAIN_CONDITION.match(found[2]))
        elif name in ("elseif", "else") and guards:
            guards[-1] = True
        elif name == "endif" and guards:
            guards.pop()
        elif name in _READ:
            words = [one[1] if one[1] is not None and one[2] is None else one[2] for one in _WORD.finditer(found[2])]
            yield name, _Call(words, any(guards), manifest.source(line_at(text, found.start(1))))


_READ = ("cmake_minimum_required", "project", "find_package", "set", "enable_language", "include", "pkg_check_modules",
    "pkg_search_module", "target_compile_features", "set_property", "set_target_properties")  # fmt: skip


def read_cmake(manifest: Manifest) -> list[Requirement]:
    """Read `cmake_minimum_required`, the languages of `project`, the standard of C++, and `find_package`.

    What an `if()` decides is advice. Tools that `find_package` finds are tools; what a package manager of the project's own
    (vcpkg, Conan) brings is not asked of the system.
    """
    found: list[Requirement] = []
    calls = list(_calls(manifest))
    if any("tools/cmake/project.cmake" in " ".join(call.words) for name, call in calls if name == "include"):
        source = next(
            call.source for name, call in calls if name == "include" and "project.cmake" in " ".join(call.words)
        )
        found.append(any_version("esp-idf", source, "the project is built by ESP-IDF"))
    is_firmware = bool(found)
    brought_by = _package_manager(manifest)
    for name, call in calls:
        if name == "cmake_minimum_required" and (least := _after(call.words, "VERSION")):
            found.append(_version_of("cmake", least, "cmake", call.source))
        elif name in ("project", "enable_language") and not is_firmware:
            found += _languages(name, call)
        elif name == "set" and call.words[:1] == ["CMAKE_CXX_STANDARD"] and not is_firmware and len(call.words) > 1:
            found += _standard(call.words[1], call)
        elif name == "find_package" and not is_firmware:
            found += _found_package(call, brought_by)
        elif name in ("pkg_check_modules", "pkg_search_module") and not is_firmware:
            found += _modules(call, brought_by)
    seen: dict[tuple[str, str], Requirement] = {}
    for each in found:
        seen.setdefault((each.label, each.wanted), each)
    found = list(seen.values())
    if not any(each.tool == "cmake" for each in found) and manifest.path.parent == manifest.root:
        found.append(any_version("cmake", manifest.source(1), "a CMakeLists.txt is CMake's"))
    return found


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
    needs = [_compiler(word, call.source) for word in languages if word in _COMPILERS]
    needs += [
        any_version(_OTHER_COMPILERS[word], call.source, f"the project is in {word}")
        for word in languages
        if word in _OTHER_COMPILERS
    ]
    return [_advised(each) for each in needs] if call.guarded else needs


def _advised(need: Requirement) -> Requirement:
    return msgspec.structs.replace(need, strength="advised")


def _standard(wanted: str, call: _Call) -> list[Requirement]:
    compilers = _STANDARD.get(wanted)
    if compilers is None:
        return []
    why = f"the project is in C++{wanted}"
    choices = [requirement(tool, versions, "plain", call.source, why=why) for tool, versions in compilers]
    need = either(choices, call.source, why, f"C++{wanted} compiler")
    return [_advised(need)] if call.guarded else [need]


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
    if version and "EXACT" in words:
        version = f"{version}...{version}"
    strength: Strength = "required" if "REQUIRED" in words and not call.guarded else "advised"
    if strength == "advised" and not version and "REQUIRED" not in words:
        return []
    tool = _TOOLS.get(words[0])
    if tool:
        if version and words[0] not in ("Protobuf",):
            return [requirement(tool, version, "cmake", call.source, strength=strength)]
        return [any_version(tool, call.source, strength=strength)]
    if version:
        need = requirement("library", version, "cmake", call.source, strength=strength, component=words[0])
    else:
        need = any_version("library", call.source, component=words[0], strength=strength)
    return [brought(msgspec.structs.replace(need, why=f"{brought_by} brings it"))] if brought_by else [need]


def _modules(call: _Call, brought_by: str | None) -> list[Requirement]:
    """`pkg_check_modules(GLIB REQUIRED glib-2.0>=2.60)` asks pkg-config for modules (FindPkgConfig)."""
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
    return found


_PRESETS = {
    "version": "whole number",
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


_MESON_TOOLS = {
    "threads": None,
    "openmp": None,
    "dl": None,
    "intl": None,
    "iconv": None,
    "python3": "python",
    "python": "python",
}
_MESON_LANGUAGES = {"c": "C", "cpp": "CXX"}
_MESON_OTHERS = {"fortran": "gfortran", "rust": "rustc", "vala": "valac", "java": "javac", "cuda": "nvcc", "swift": "swift",
    "d": "ldc2", "cs": "mcs", "nasm": "nasm", "cython": "cython"}  # fmt: skip


_MESON_CALL = re.compile(
    r"\b(project|dependency|add_languages)\s*\(((?:[^()']|'(?:[^'\\\n]|\\.)*'|\([^()]*\)){0,6000})\)"
)


def read_meson(manifest: Manifest) -> list[Requirement]:
    """Read `project` (languages, `meson_version`) and each `dependency` with its versions (mesonbuild.com, "Reference")."""
    text = re.sub(
        r"'(?:[^'\\\n]|\\.)*'|#[^\n]*", lambda found: found[0] if found[0][0] == "'" else "", manifest.text[:500_000]
    )
    found: list[Requirement] = []
    for call in re.finditer(
        r"\b(project|dependency|add_languages)\s*\(((?:[^()']|'(?:[^'\\\n]|\\.)*'|\([^()]*\)){0,6000})\)", text
    ):
        source = manifest.source(line_at(text, call.start()))
        positional, named = _arguments(call[2])
        if call[1] == "dependency":
            found += _meson_dependency(positional, named, source)
            continue
        languages = positional[1:] if call[1] == "project" else positional
        for word in languages:
            if word in _MESON_LANGUAGES:
                found.append(_compiler(_MESON_LANGUAGES[word], source))
            elif word in _MESON_OTHERS:
                found.append(any_version(_MESON_OTHERS[word], source, f"the project is in {word}"))
        if call[1] == "project" and (versions := named.get("meson_version")):
            line = line_at(text, call.start() + call[0].index("meson_version"))
            found.append(_version_of("meson", ", ".join(versions), "plain", manifest.source(line)))
    if not any(each.tool == "meson" for each in found) and manifest.path.parent == manifest.root:
        found.append(any_version("meson", manifest.source(1), "a meson.build is Meson's"))
    return found


def _arguments(text: str) -> tuple[list[str], dict[str, list[str]]]:
    """Return the texts among the positional arguments of a call, and the texts (or words) of each named one."""
    positional: list[str] = []
    named: dict[str, list[str]] = {}
    current: list[str] = positional
    for part in re.finditer(r"(\w+)\s*:|'((?:[^'\\\n]|\\.)*)'|\b(true|false|\w+)\b", text):
        if part[1]:
            current = named.setdefault(part[1], [])
        elif part[2] is not None:
            current.append(part[2])
        elif current is not positional:
            current.append(part[3])
    return positional, named


def _meson_dependency(names: list[str], named: dict[str, list[str]], source: Source) -> list[Requirement]:
    if not names or not names[0] or "@" in names[0]:
        return []
    name = names[0]
    if name in _MESON_TOOLS:
        tool = _MESON_TOOLS[name]
        return [any_version(tool, source)] if tool else []
    required = named.get("required", ["true"])
    strength: Strength = "required" if required == ["true"] else "advised"
    versions = [each for each in named.get("version", []) if re.match(r"[<>=!]|\d", each)]
    fallback = "fallback" in named
    if versions:
        need = requirement("library", ", ".join(versions), "plain", source, strength=strength, component=name)
    elif strength == "required":
        need = any_version("library", source, component=name)
    else:
        return []
    return (
        [brought(msgspec.structs.replace(need, why="the project brings it, where it is not there"))]
        if fallback
        else [need]
    )


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
