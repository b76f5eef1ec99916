"""Meson: `meson.build`, read as text."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

import msgspec

from dokimon.core.declarations.readers.compilers import compiler, standard
from dokimon.core.declarations.requirement import Requirement, Strength, any_version, brought, requirement, unreadable
from dokimon.core.expressions import expression
from dokimon.core.reading.manifest import Manifest, line_at
from dokimon.core.source import Source

_ALWAYS_THERE = frozenset({"threads", "openmp", "dl", "intl", "iconv", "appleframeworks"})
"""Dependencies that come with the compiler or the system."""

_LANGUAGES = {"c": "C", "cpp": "CXX"}
_OTHERS = {"fortran": "gfortran", "rust": "rustc", "vala": "valac", "java": "javac", "cuda": "nvcc", "swift": "swift",
    "d": "ldc2", "cs": "mcs", "nasm": "nasm", "cython": "cython"}  # fmt: skip
_PROGRAMS = {"python3": "python", "python": "python", "perl": "perl", "git": "git", "bash": "bash", "cmake": "cmake",
    "doxygen": "doxygen", "flex": "flex", "bison": "bison", "pkg-config": "pkg-config", "protoc": "protoc", "node": "node",
    "npm": "npm", "ruby": "ruby", "java": "java", "cargo": "cargo", "rustc": "rustc", "go": "go",
    "make": "make"}  # fmt: skip
"""Programs that `find_program` looks for and that are tools here."""

_CALL = expression(
    r"\b(project|dependency|add_languages|find_program)\s*\(((?:[^()']|'(?:[^'\\\n]|\\.)*'|\([^()]*\)){0,6000})\)"
    r"|^[ \t]*(if|foreach|endif|endforeach)\b",
    re.MULTILINE,
)


def read_meson(manifest: Manifest) -> list[Requirement]:
    """Read `project`, `dependency` and `find_program` with their versions (mesonbuild.com, "Reference").

    What an `if` decides is advice.
    """
    text = re.sub(
        r"'(?:[^'\\\n]|\\.)*'|#[^\n]*", lambda found: found[0] if found[0][0] == "'" else "", manifest.text[:500_000]
    )
    known = dict(_CONSTANT.findall(text))
    text = _JOINED.sub(lambda found: f"'{found[1]}{known[found[2]]}'" if found[2] in known else "'@'", text)
    text = _WRITTEN_IN.sub(lambda found: re.sub(r"@(\w+)@", lambda name: known.get(name[1], name[0]), found[1]), text)
    found: list[Requirement] = []
    depth = 0
    for call in _CALL.finditer(text):
        if call[3]:
            depth = max(0, depth + (1 if call[3] in ("if", "foreach") else -1))
            continue
        source = manifest.source(line_at(text, call.start()))
        positional, named = _arguments(call[2], known)
        needs = list(_READ[call[1]](positional, named, source))
        if call[1] == "project" and (versions := named.get("meson_version")):
            line = line_at(text, call.start() + call[0].index("meson_version"))
            needs.append(_of_meson(", ".join(versions), manifest.source(line)))
        found += [msgspec.structs.replace(each, strength="advised") for each in needs] if depth else needs
    if not any(each.tool == "meson" for each in found) and manifest.path.parent == manifest.root:
        found.append(any_version("meson", manifest.source(1), "a meson.build is Meson's"))
    return found


def _of_meson(wanted: str, source: Source) -> Requirement:
    if "@" in wanted:
        return unreadable("meson", source, f"{wanted} is worked out by meson, which is not run here")
    return requirement("meson", wanted, "plain", source)


_CONSTANT = expression(r"(?m)^[ \t]*(\w+)[ \t]*=[ \t]*'([^'\\\n]{0,60})'[ \t]*$")
"""A name that gets a plain text."""

_JOINED = expression(r"'([^'\\\n]{0,60})'[ \t]*\+[ \t]*(\w+)\b(?!\s*\()")
_WRITTEN_IN = expression(r"\bf('[^'\\\n]{0,200}')")


def _arguments(text: str, known: Mapping[str, str]) -> tuple[list[str], dict[str, list[str]]]:
    """Return the texts among the positional arguments of a call, and the texts (or words) of each named one."""
    positional: list[str] = []
    named: dict[str, list[str]] = {}
    current: list[str] = positional
    for part in re.finditer(r"(\w+)\s*:(?!:)|'((?:[^'\\\n]|\\.)*)'|\b(true|false|\w+)\b", text):
        if part[1]:
            current = named.setdefault(part[1], [])
        elif part[2] is not None:
            current.append(part[2])
        elif current is not positional:
            current.append(known.get(part[3], part[3]))
    return positional, named


_Named = dict[str, list[str]]


def _of_project(words: list[str], named: _Named, source: Source) -> Iterator[Requirement]:
    yield from _of_languages(words[1:], named, source)
    for option in named.get("default_options", []):
        if found := re.fullmatch(r"(c|cpp)_std\s*=\s*(?:gnu|c)(?:\+\+)?(\w\w)(?:,.*)?", option):
            yield from standard(_LANGUAGES[found[1]], found[2], source)


def _of_languages(words: list[str], _: _Named, source: Source) -> Iterator[Requirement]:
    for word in words:
        if word in _LANGUAGES:
            yield compiler(_LANGUAGES[word], source)
        elif word in _OTHERS:
            yield any_version(_OTHERS[word], source, f"the project is in {word}")


def _strength(named: _Named) -> Strength:
    return "required" if named.get("required", ["true"]) == ["true"] else "advised"


def _versions(named: _Named) -> str:
    return ", ".join(each for each in named.get("version", []) if re.match(r"[<>=!]|\d", each))


def _is_worked_out(versions: str) -> bool:
    """Whether a part of the versions is missing: an operator alone, or a name that nothing gives a plain value."""
    return any("@" in each or not re.search(r"\d", each) for each in versions.split(",")) if versions else False


def _of_dependency(names: list[str], named: _Named, source: Source) -> Iterator[Requirement]:
    name = next(iter(names), "")
    if not name or "@" in name or name in _ALWAYS_THERE:
        return
    if name in ("python3", "python"):
        yield from _of_program(names, named, source)
        return
    versions, strength = _versions(named), _strength(named)
    if _is_worked_out(versions):
        need = unreadable("library", source, "the versions are worked out by meson, which is not run here", name)
    elif versions:
        need = requirement("library", versions, "plain", source, strength=strength, component=name)
    elif strength == "required":
        need = any_version("library", source, component=name)
    else:
        return
    if "fallback" in named:
        need = brought(msgspec.structs.replace(need, why="the project brings it, where it is not there"))
    yield need


def _of_program(names: list[str], named: _Named, source: Source) -> Iterator[Requirement]:
    tool = next((_PROGRAMS[name] for name in names if name in _PROGRAMS), None)
    versions, strength = _versions(named), _strength(named)
    if tool and versions and not _is_worked_out(versions):
        yield requirement(tool, versions, "plain", source, strength=strength)
    elif tool and strength == "required":
        yield any_version(tool, source, "the build looks for it")


_READ = {
    "project": _of_project,
    "add_languages": _of_languages,
    "dependency": _of_dependency,
    "find_program": _of_program,
}
