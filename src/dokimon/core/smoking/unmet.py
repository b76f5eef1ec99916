"""A need that is not met, as the cause of a failure: of a tool that the run itself starts, or runs on."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from dokimon.core.report.model import Diagnosis, Finding

_RUN_ON = {
    "npm": ("node", "npm"), "npx": ("node", "npm"), "pnpm": ("node", "pnpm"), "yarn": ("node", "yarn"), "bun": ("bun",),
    "node": ("node",), "expo": ("node",), "python": ("python",), "uvicorn": ("python",), "flask": ("python",),
    "java": ("java",), "mvn": ("java", "mvn"), "mvnw": ("java",), "gradle": ("java", "gradle"), "gradlew": ("java",),
    "cargo": ("rustc", "cargo"), "go": ("go",), "dotnet": ("dotnet",), "ruby": ("ruby",), "bundle": ("ruby", "bundler"),
    "php": ("php",), "composer": ("php",), "mix": ("elixir", "erlang"), "cmake": ("cmake",), "make": ("make",),
}  # fmt: skip
"""The tools whose versions decide what a command can do."""


def unmet_need(unmet: Sequence[Finding], command: str) -> Diagnosis | None:
    """Return the need that is not met of a tool which a command runs on, as a cause; None where all of those are met."""
    names = [Path(word).name.rstrip("0123456789.") for word in command.split()]
    tools = {tool for name in names for tool in (*_RUN_ON.get(name, ()), name)}
    wrong = [
        each for each in unmet if each.tool in tools and each.kind == "tool" and each.verdict in ("unmet", "off-path")
    ]
    wrong.sort(key=lambda each: each.strength != "required")
    if not wrong:
        return None
    need = wrong[0]
    found = f" {need.found.version}" if need.found and need.found.version else ""
    return Diagnosis(
        name="need-unmet",
        cause=f"{need.title or need.tool}{found} runs it, and {need.source.place} asks for {need.accepts}",
        line=None,
        remedies=need.remedies[:2],
    )
