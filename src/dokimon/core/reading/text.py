"""Manifests that are programs (Gradle, Ruby, CMake, Swift, Elixir): read as text, line by line, never run."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import TYPE_CHECKING

import msgspec

from dokimon.core.reading.manifest import Manifest, ManifestFault

if TYPE_CHECKING:
    from configparser import RawConfigParser

_LONGEST_LINE = 2000
_MOST_LINES = 20_000
"""Of a file that people write; what is beyond is not looked at."""


def matches(manifest: Manifest, pattern: str, comment: str = "#") -> Iterator[tuple[re.Match[str], int]]:
    """Yield each match of `pattern` with its line (from 1), one line at a time; what follows `comment` is left out.

    Lines too long to be written by a person are passed over, so that no pattern can take long.
    """
    compiled = re.compile(pattern)
    for number, line in enumerate(manifest.text.split("\n", _MOST_LINES)[:_MOST_LINES], start=1):
        if len(line) <= _LONGEST_LINE:
            code = re.split(rf"(?:^|\s){re.escape(comment)}", line, maxsplit=1)[0] if comment else line
            for found in compiled.finditer(code):
                yield found, number


def without_block_comments(manifest: Manifest) -> Manifest:
    """Return a manifest of a C-like language with its `/* … */` blanked out; its lines stay where they are."""
    blanked = re.sub(
        _STRING_OR_COMMENT, lambda found: found[0] if found[0][0] != "/" else "\n" * found[0].count("\n"), manifest.text
    )
    return msgspec.structs.replace(manifest, text=blanked)


_STRING_OR_COMMENT = r"(?s)\"\"\".*?\"\"\"|\"(?:[^\"\\\n]|\\.)*\"|'(?:[^'\\\n]|\\.)*'|//[^\n]*|/\*.*?(?:\*/|\Z)"


def as_ini(manifest: Manifest) -> RawConfigParser:
    """Return the sections of an INI file; raises `ManifestFault`. Nothing in it is filled in."""
    import configparser

    parser = configparser.RawConfigParser(strict=False)
    # The patterns of the standard library take a time that grows with the square of blanks in a row.
    text = "\n".join(line[:_LONGEST_LINE].rstrip() for line in manifest.text.split("\n"))
    try:
        parser.read_string(text)
    except configparser.Error as wrong:
        line = getattr(wrong, "lineno", None) or (
            wrong.errors[0][0] if isinstance(wrong, configparser.ParsingError) else 1
        )
        raise ManifestFault(line, "is not a file of [sections] with key = value lines") from None
    return parser


def version_line(manifest: Manifest) -> tuple[str, int]:
    """Return what a version file names, and its line: the first line that is not empty and no comment."""
    for number, line in enumerate(manifest.text.split("\n"), start=1):
        if wanted := line.partition("#")[0].strip():
            return wanted, number
    raise ManifestFault(1, "names no version")


def properties(manifest: Manifest) -> dict[str, tuple[str, int]]:
    """Return the keys of a properties file with their values and lines (java.util.Properties, the common part of it)."""
    found: dict[str, tuple[str, int]] = {}
    for match, line in matches(manifest, r"^[ \t]*([^#!=:\s][^=:\s]*)[ \t]*[=:][ \t]*(.*)$", comment=""):
        found[match[1]] = (match[2].strip().replace("\\:", ":"), line)
    return found
