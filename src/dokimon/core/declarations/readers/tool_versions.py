"""`.tool-versions`, which names the versions of any number of tools, one a line."""

from __future__ import annotations

import re

from dokimon.core.declarations.requirement import Requirement, requirement
from dokimon.core.reading.manifest import Manifest
from dokimon.core.reading.text import matches

_NAMES = {"nodejs": "node", "golang": "go", "rust": "rustc"}


def read_tool_versions(manifest: Manifest) -> list[Requirement]:
    """Read each line's tool and first version; `latest`, `system`, paths and references pick no version."""
    found = []
    for match, line in matches(manifest, r"^\s*([A-Za-z][\w-]*)\s+(\S+)"):
        version = re.sub(r"^[a-z]+(?:64)?-", "", match[2])
        if re.fullmatch(r"\d[\w.+]*(?:-\w+)*", version):
            tool = _NAMES.get(match[1], match[1])
            plain = re.match(r"\d+(\.\d+)*", version)
            found.append(requirement(tool, plain[0] if plain else version, "plain", manifest.source(line)))
    return found
