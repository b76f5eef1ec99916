"""Elixir: the requirement in `mix.exs`, read as text."""

from __future__ import annotations

from dokimon.core.declarations.requirement import Requirement, any_version, requirement
from dokimon.core.reading.manifest import Manifest
from dokimon.core.reading.text import matches


def read_mix(manifest: Manifest) -> list[Requirement]:
    """Read `elixir: "~> 1.14"`."""
    for match, line in matches(manifest, r"\belixir:\s*\"([^\"]+)\""):
        return [requirement("elixir", match[1], "elixir", manifest.source(line))]
    return [any_version("elixir", manifest.source(1), "a mix.exs is Elixir's")]
