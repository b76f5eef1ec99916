"""The compilers that C and C++ ask for, by language and by standard."""

from __future__ import annotations

from dokimon.core.declarations.requirement import Requirement, any_version, either, requirement
from dokimon.core.source import Source

_COMPILERS = {"C": ("gcc", "clang"), "CXX": ("g++", "clang++")}
_NAMES = {"C": "C", "CXX": "C++"}
COMPILED = frozenset(_COMPILERS)
"""The languages, as CMake names them, whose compilers are looked for here."""


def compiler(language: str, source: Source) -> Requirement:
    """Return the need of a compiler for `C` or `CXX`: either of the usual ones."""
    name = _NAMES[language]
    compilers = [any_version(tool, source) for tool in _COMPILERS[language]]
    return either(compilers, source, f"the project is in {name}", f"{name} compiler")


_STANDARDS = {
    "CXX": {
        "11": (("g++", ">=4.8"), ("clang++", ">=3.3")), "14": (("g++", ">=5"), ("clang++", ">=3.4")),
        "17": (("g++", ">=7"), ("clang++", ">=5")), "20": (("g++", ">=10"), ("clang++", ">=10")),
        "23": (("g++", ">=13"), ("clang++", ">=17")), "26": (("g++", ">=14"), ("clang++", ">=18")),
    },
    "C": {
        "11": (("gcc", ">=4.7"), ("clang", ">=3.1")), "17": (("gcc", ">=8"), ("clang", ">=6")),
        "23": (("gcc", ">=9"), ("clang", ">=9")),
    },
}  # fmt: skip
"""The compilers that have a standard (gcc.gnu.org/projects/cxx-status.html, clang.llvm.org/cxx_status.html; the options
`-std=` of both)."""

_SAME = {"2a": "20", "1z": "17", "2b": "23", "2c": "26", "1y": "14", "0x": "11", "2x": "23", "1x": "11", "18": "17"}


def standard(language: str, wanted: str, source: Source) -> list[Requirement]:
    """Return the need of a compiler that has a standard (`20`, `2a`) of `C` or `CXX`; none for one that is not known."""
    wanted = _SAME.get(wanted, wanted)
    compilers = _STANDARDS[language].get(wanted)
    if compilers is None:
        return []
    name = f"{_NAMES[language]}{wanted}"
    choices = [requirement(tool, versions, "plain", source) for tool, versions in compilers]
    return [either(choices, source, f"the project is in {name}", f"{name} compiler")]
