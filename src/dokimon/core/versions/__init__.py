"""Version orders, version sets and constraint languages. Pure: nothing here reads a file or asks a program.

>>> admits("npm", "^18.17 || >=20", "20.11.1")
True
"""

from functools import cache
from importlib import import_module

from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.orders import Order

__all__ = ["LANGUAGES", "Constraint", "VersionFault", "admits", "compiled", "in_words"]

LANGUAGES = {
    "cargo": "cargo",
    "cmake": "cmake",
    "composer": "composer",
    "dart": "dart",
    "elixir": "elixir",
    "gem": "gem",
    "go": "go",
    "gradle": "gradle",
    "maven": "maven",
    "node-version-file": "node_version_file",
    "npm": "npm",
    "nuget": "nuget",
    "pep440": "pep440",
    "plain": "plain",
    "poetry": "poetry",
    "runtime-rollforward": "runtime_rollforward",
    "sdk-rollforward": "sdk_rollforward",
    "swift": "swift",
}
"""The identifier of each language, and its module in `languages/` (imported when first used)."""


LONGEST = 512
"""Characters of a constraint: none that a person wrote is longer, and reading one must not take long."""


@cache
def compiled(language: str, constraint: str, order: Order | None = None) -> Constraint:
    """Return `constraint`, read in the named language.

    The plain language takes the `order` of its tool; all others bring their own.

    Raises `VersionFault` with the position of the fault when the language does not allow it or it is too long, and
    `LookupError` when there is no such language.
    """
    if language not in LANGUAGES:
        raise LookupError(f"no constraint language {language!r}; known are {', '.join(sorted(LANGUAGES))}")
    if len(constraint) > LONGEST:
        shown = constraint[:60] + "…"
        raise VersionFault(shown, 0, f"is longer than {LONGEST} characters, too long for a constraint")
    module = import_module(f"dokimon.core.versions.languages.{LANGUAGES[language]}")
    constraint_read = module.compile(constraint, order) if order and language == "plain" else module.compile(constraint)
    assert isinstance(constraint_read, Constraint)
    return constraint_read


@cache
def in_words(language: str, constraint: str, order: Order | None = None) -> str:
    """Return what `constraint` accepts, in words; raises as `compiled` does. A large checkout asks it over and over."""
    return compiled(language, constraint, order).in_words


def admits(language: str, constraint: str, version: str) -> bool:
    """Whether `version` satisfies `constraint` as the named language understands it.

    Raises `VersionFault` for a constraint or version that cannot be read.
    """
    return compiled(language, constraint).admits(version)
