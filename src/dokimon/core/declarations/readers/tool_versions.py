"""`.tool-versions` and `.sdkmanrc`, which name the versions of any number of tools, one a line."""

from __future__ import annotations

import re

from dokimon.core.declarations.distributions import NAMES, version_need
from dokimon.core.declarations.requirement import Requirement
from dokimon.core.reading.manifest import Manifest
from dokimon.core.reading.text import matches, properties


def read_tool_versions(manifest: Manifest) -> list[Requirement]:
    """Read each line's tool and its versions: the first is taken, the others are fallbacks."""
    found = []
    for match, line in matches(manifest, r"^\s*([A-Za-z][\w.-]*)\s+(\S.*)$"):
        tool = NAMES.get(match[1], match[1])
        found += version_need(tool, match[2].split(), manifest.source(line))
    return found


_CANDIDATES = {name: name for name in ("java", "maven", "gradle", "kotlin", "scala", "groovy", "sbt", "ant")}


def read_sdkman(manifest: Manifest) -> list[Requirement]:
    """Read `java=17.0.9-tem`: the word behind the version is the distribution (sdkman.io, "Usage", env)."""
    found = []
    for name, (value, line) in properties(manifest).items():
        if tool := _CANDIDATES.get(name):
            found += version_need(tool, [re.sub(r"-[a-z]+$", "", value)], manifest.source(line))
    return found
