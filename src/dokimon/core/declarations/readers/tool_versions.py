"""`.tool-versions`, `mise.toml` and `.sdkmanrc`, which name the versions of any number of tools, of their own."""

from __future__ import annotations

import re

from dokimon.core.declarations.distributions import NAMES, version_need
from dokimon.core.declarations.requirement import Requirement
from dokimon.core.declarations.shapes import misfits
from dokimon.core.reading.manifest import Manifest, as_toml
from dokimon.core.reading.text import matches, properties
from dokimon.core.reading.toml_lines import toml_line


def read_tool_versions(manifest: Manifest) -> list[Requirement]:
    """Read each line's tool and its versions: the first is taken, the others are fallbacks."""
    found = []
    for match, line in matches(manifest, r"^[ \t]*([A-Za-z][\w.-]*)\s+(\S.*)$"):
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


def read_mise(manifest: Manifest) -> list[Requirement]:
    """Read `[tools]` of a mise.toml: names of tools with a version, or several (mise.jdx.dev, "Configuration")."""
    data = as_toml(manifest)
    tools, found = data.get("tools"), misfits(manifest, data, {"tools": "table"}, "mise")
    for name, given in tools.items() if isinstance(tools, dict) else ():
        value = given.get("version") if isinstance(given, dict) else given
        names = [
            str(each) for each in (value if isinstance(value, list) else [value]) if isinstance(each, str | int | float)
        ]
        source = manifest.source(toml_line(manifest.text, ("tools", name)))
        if ":" not in name and names:
            found += version_need(str(NAMES.get(name, name)), names, source)
    return found
