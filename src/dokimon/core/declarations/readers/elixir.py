"""Elixir: the requirement in `mix.exs`, read as text."""

from __future__ import annotations

from dokimon.core.declarations.requirement import Requirement, any_version, requirement, unreadable
from dokimon.core.reading.manifest import Manifest
from dokimon.core.reading.text import matches


def read_mix(manifest: Manifest) -> list[Requirement]:
    """Read `elixir: "~> 1.14"`."""
    for match, line in matches(manifest, r"\belixir:\s*\"([^\"]+)\""):
        return [requirement("elixir", match[1], "elixir", manifest.source(line))]
    for match, line in matches(manifest, r"\belixir:\s*@(\w+)"):
        for value, at in matches(manifest, rf"^[ \t]*@{match[1]}\s+\"([^\"]+)\""):
            return [requirement("elixir", value[1], "elixir", manifest.source(at))]
        return [unreadable("elixir", manifest.source(line), f"@{match[1]} is worked out by a program, not run here")]
    return [any_version("elixir", manifest.source(1), "a mix.exs is Elixir's")]
