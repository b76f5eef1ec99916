"""The paths of a server that its project names: the addresses of its README, and those that its libraries give it."""

from __future__ import annotations

import re
from pathlib import Path

from dokimon.core.files import text_of

_LARGEST = 200_000
_MANIFESTS = ("package.json", "pom.xml", "build.gradle", "build.gradle.kts", "requirements.txt", "pyproject.toml")
_PROBES = {
    "socket.io": "/socket.io/?EIO=4&transport=polling",
    "spring-boot-starter-actuator": "/actuator/health",
    "dash": "/_dash-layout",
}
"""What a library answers at a path of its own: the beginning of a session, the health, what the page is made of."""

_MAPPED_HEALTH = re.compile(r"\bMapHealthChecks\(\s*\"(/[\w/-]{1,60})\"")


def paths_in_readme(folder: Path, port: int) -> tuple[str, ...]:
    """Return the paths of addresses with this port in the README of a folder, in their order, each once."""
    names = sorted(path.name for path in folder.glob("README*"))[:2]
    text = "\n".join(text_of(folder / name, _LARGEST) for name in names)
    pattern = rf"https?://(?:localhost|127\.0\.0\.1|0\.0\.0\.0):{port}(/[\w./~-]+)"
    return tuple(dict.fromkeys(path.rstrip(".") for path in re.findall(pattern, text) if path != "/"))


def probes(folder: Path) -> tuple[str, ...]:
    """Return the paths that the libraries of a project give it."""
    text = "\n".join(text_of(folder / name, _LARGEST) for name in _MANIFESTS)
    found = [path for name, path in _PROBES.items() if re.search(rf"(?<![\w./-]){re.escape(name)}(?![\w.-])", text)]
    for path in (folder / "Program.cs", *sorted(folder.glob("*/Program.cs"))[:3]):
        found += _MAPPED_HEALTH.findall(text_of(path, _LARGEST))
    return tuple(dict.fromkeys(found))
