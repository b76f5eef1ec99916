"""Make and the Autotools: a `Makefile` at the root, and `configure.ac`, read as text."""

from __future__ import annotations

import re

import msgspec

from dokimon.core.declarations.readers.compilers import compiler
from dokimon.core.declarations.requirement import Requirement, any_version, requirement
from dokimon.core.expressions import expression
from dokimon.core.reading.manifest import Manifest
from dokimon.core.reading.text import matches

_CALLS = expression(r"\$[({](?:CC|CXX)[)}]|(?:^|[\s\"'=/])(gcc|cc|clang|g\+\+|c\+\+|clang\+\+)(?=\s|$)", re.MULTILINE)


def read_makefile(manifest: Manifest) -> list[Requirement]:
    """A Makefile alone at the root builds the project: it needs make, and the compilers that it calls.

    Beside another manifest it only gives names to that one's commands.
    """
    folder = manifest.path.parent
    if folder != manifest.root or any((folder / name).is_file() for name in _OTHERS):
        return []
    found = [any_version("make", manifest.source(1), f"a {manifest.path.name} is make's")]
    endings = {name.suffix for name in [*folder.glob("*.c*"), *folder.glob("src/*.c*")]}
    for match in _CALLS.finditer(manifest.text[:300_000]):
        endings.add(".cpp" if "++" in match[0] or "CXX" in match[0] else ".c")
    if ".c" in endings:
        found.append(compiler("C", manifest.source(1)))
    if endings & {".cpp", ".cc", ".cxx"}:
        found.append(compiler("CXX", manifest.source(1)))
    return found


_OTHERS = (
    "package.json", "pyproject.toml", "setup.py", "requirements.txt", "go.mod", "Cargo.toml", "CMakeLists.txt",
    "meson.build", "configure.ac", "configure.in", "composer.json", "Gemfile", "pom.xml", "build.gradle", "build.gradle.kts",
    "mix.exs", "pubspec.yaml", "Package.swift", "rebar.config", "deno.json", "Makefile.am",
)  # fmt: skip

_MACROS = (
    (r"\bAC_PREREQ\(\s*\[?([\d.]+)", "autoconf"),
    (r"\bAM_INIT_AUTOMAKE\(\s*\[?\s*(\d[\d.]*)?", "automake"),
    (r"\bLT_PREREQ\(\s*\[?([\d.]+)|\b(?:LT_INIT|AC_PROG_LIBTOOL)\b", "libtool"),
)
"""The macros of the Autotools themselves, with the least version where one stands there (their manuals)."""


def read_configure(manifest: Manifest) -> list[Requirement]:
    """Read the tools, compilers and pkg-config modules that `configure.ac` asks for.

    The Autotools themselves are only needed where no `configure` has been made from it yet.
    """
    found: list[Requirement] = []
    if not (manifest.path.parent / "configure").is_file():
        found += _of_the_autotools(manifest)
    for pattern, language in ((r"\bAC_PROG_CC\b", "C"), (r"\bAC_PROG_CXX\b", "CXX")):
        for _, line in list(matches(manifest, pattern, "dnl"))[:1]:
            found.append(compiler(language, manifest.source(line)))
    for match, line in matches(manifest, r"\bAM_PATH_PYTHON\(\s*\[?([\d.]+)", "dnl"):
        found.append(requirement("python", f">={match[1]}", "plain", manifest.source(line)))
    for match, line in matches(
        manifest, r"^([ \t]*)PKG_CHECK_MODULES\(\s*\[?\w+\]?\s*,\s*\[?([^\]),\[]+)\]?\s*([,)]?)", "dnl"
    ):
        source = manifest.source(line)
        for name, wanted in re.findall(r"([A-Za-z][\w.+-]*)\s*((?:[<>]=?|=)\s*[\d.]+\w*)?", match[2]):
            if wanted:
                need = requirement("library", wanted.replace(" ", ""), "plain", source, component=name)
            else:
                need = any_version("library", source, component=name)
            # With something to do where it is missing, or deeper in the script, it may be left out.
            is_certain = not match[1] and match[3] == ")"
            found.append(need if is_certain else msgspec.structs.replace(need, strength="advised"))
    if manifest.path.parent == manifest.root:
        found.append(any_version("make", manifest.source(1), "configure writes Makefiles"))
    if any((manifest.path.parent / name).is_file() for name in ("CMakeLists.txt", "meson.build")):
        return [msgspec.structs.replace(each, strength="advised") for each in found]  # another build does without
    return found


def _of_the_autotools(manifest: Manifest) -> list[Requirement]:
    found: dict[str, Requirement] = {}
    for pattern, tool in _MACROS:
        for match, line in matches(manifest, pattern, "dnl"):
            source, why = manifest.source(line), "it makes configure, which is not there yet"
            if match[1]:
                found[tool] = requirement(tool, f">={match[1]}", "plain", source, why=why)
            else:
                found.setdefault(tool, any_version(tool, source, why))
    found.setdefault(
        "autoconf", any_version("autoconf", manifest.source(1), "it makes configure, which is not there yet")
    )
    return list(found.values())
