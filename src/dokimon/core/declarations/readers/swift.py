"""Swift: the tools version in the first line of `Package.swift`, and `.swift-version`."""

from __future__ import annotations

import re

from dokimon.core.declarations.requirement import Requirement, requirement, unreadable
from dokimon.core.reading.manifest import Manifest
from dokimon.core.reading.text import version_line


def read_package(manifest: Manifest) -> list[Requirement]:
    """Read `// swift-tools-version: 5.9` (SE-0152, SE-0292)."""
    first = manifest.text.lstrip().split("\n", 1)[0]
    found = re.match(r"//\s*swift-tools-version\s*:\s*([^\s;]+)", first, re.IGNORECASE)
    line = manifest.text[: len(manifest.text) - len(manifest.text.lstrip())].count("\n") + 1
    if not found:
        return [
            unreadable(
                "swift",
                manifest.source(line),
                "the first line must name the tools version: // swift-tools-version: 5.9",
            )
        ]
    return [requirement("swift", found[1], "swift", manifest.source(line))]


def read_variant(manifest: Manifest) -> list[Requirement]:
    """`Package@swift-5.7.swift` is read by that Swift and newer ones instead of the plain manifest: no need of its own."""
    return []


def read_version_file(manifest: Manifest) -> list[Requirement]:
    """Read `.swift-version`: a version, or the beginning of one."""
    wanted, line = version_line(manifest)
    return [requirement("swift", wanted, "plain", manifest.source(line))]
