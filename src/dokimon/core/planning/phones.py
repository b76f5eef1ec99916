"""Whether a project's development server serves phones: React Native's, by Expo or by Metro alone."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

from dokimon.core.planning.parts import text_of_command
from dokimon.core.planning.workspaces import object_in

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
    expo = object_in(folder / "app.json").get("expo")
    named = expo.get("platforms") if isinstance(expo, dict) else None
    chosen = tuple(each for each in _PLATFORMS if each in named) if isinstance(named, list) else _PLATFORMS
    return Served(chosen, by_expo) if chosen else None
