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
    wanted, why = found[1], None
    older = [version for version in _variants(manifest) if _numbers(version) < _numbers(wanted)]
    if older:  # an older Swift takes the manifest that is for it (SE-0135)
        wanted = min(older, key=_numbers)
        why = f"Package@swift-{wanted}.swift is for it"
    return [requirement("swift", wanted, "swift", manifest.source(line), why=why)]


def _variants(manifest: Manifest) -> list[str]:
    """Return the versions of Swift for which the package has a manifest of their own: `Package@swift-5.7.swift`."""
    names = (path.name for path in manifest.path.parent.glob("Package@swift-*.swift"))
    return [
        found[1] for name in names if (found := re.fullmatch(r"Package@swift-(\d{1,4}(?:\.\d{1,4}){0,2})\.swift", name))
    ]


def _numbers(version: str) -> list[int]:
    return [int(each) for each in re.findall(r"\d{1,6}", version)]


def read_version_file(manifest: Manifest) -> list[Requirement]:
    """Read `.swift-version`: a version, or the beginning of one."""
    wanted, line = version_line(manifest)
    return [requirement("swift", wanted, "plain", manifest.source(line))]
