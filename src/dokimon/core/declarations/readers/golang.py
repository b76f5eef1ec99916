"""Go: the `go` and `toolchain` lines of `go.mod` and `go.work`."""

from __future__ import annotations

from dokimon.core.declarations.distributions import version_need
from dokimon.core.declarations.requirement import Requirement, Strength, any_version, requirement
from dokimon.core.reading.manifest import Manifest
from dokimon.core.reading.text import matches, version_line


def read_mod(manifest: Manifest) -> list[Requirement]:
    """Read both lines: `go` is demanded, `toolchain` is what Go itself would fetch, and so advice."""
    found = []
    for match, line in matches(manifest, r"^(go|toolchain)\s+(\S+)\s*$", comment="//"):
        if match[1] == "toolchain" and match[2] == "default":
            continue
        strength: Strength = "required" if match[1] == "go" else "advised"
        why = None if match[1] == "go" else "Go itself fetches it when it is older"
        found.append(requirement("go", match[2], "go", manifest.source(line), strength=strength, why=why))
    if not found:
        found.append(any_version("go", manifest.source(1), f"a {manifest.path.name} is Go's"))
    return found


def read_version_file(manifest: Manifest) -> list[Requirement]:
    """Read `.go-version`: a version, or the beginning of one."""
    wanted, line = version_line(manifest)
    return version_need("go", [wanted], manifest.source(line))
