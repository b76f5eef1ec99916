"""Whether a project's development server serves phones: React Native's, by Expo or by Metro alone."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any, NamedTuple

from dokimon.core.files import text_of
from dokimon.core.planning.parts import text_of_command

_PLATFORMS = ("ios", "android")


class Served(NamedTuple):
    """The platforms whose bundles are served, and whether Expo's manifests name them."""

    platforms: tuple[str, ...]
    by_expo: bool


def serves_phones(folder: Path, argv: Sequence[str]) -> Served | None:
    """Return what a command serves to phones; None where it does not: a build or the web alone."""
    command = text_of_command(folder, argv)
    by_expo = "expo start" in command or "expo-cli start" in command
    if not by_expo and not any(each in command for each in ("react-native start", "metro serve", "react-native run")):
        return None
    if "--web" in command.split():
        return None
    named = _object(_object(_read(folder / "app.json")).get("expo")).get("platforms")
    chosen = tuple(each for each in _PLATFORMS if each in named) if isinstance(named, list) else _PLATFORMS
    return Served(chosen, by_expo) if chosen else None


def _read(path: Path) -> Any:
    try:
        return json.loads(text_of(path) or "{}")
    except (ValueError, RecursionError):
        return {}


def _object(value: Any) -> dict[str, Any]:
    return value if isinstance(value, dict) else {}
