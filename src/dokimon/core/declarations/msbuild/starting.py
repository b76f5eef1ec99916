"""What lies beside a project and says how its program is started: launch profiles, the template of its runtime settings."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from dokimon.core.reading.json_places import without_comments
from dokimon.core.reading.manifest import ManifestFault, open_manifest


def object_of(text: str) -> dict[str, Any]:
    """Return what the text of a file of settings holds: they may have comments, and commas before what closes.

    An empty object where it holds none.
    """
    plain = re.sub(r",(?=\s*[}\]])", "", without_comments(text.removeprefix("\ufeff")))
    try:
        read = json.loads(plain or "{}")
    except (ValueError, RecursionError):
        return {}
    return read if isinstance(read, dict) else {}


def launch_profile(settings: Mapping[str, Any]) -> dict[str, Any]:
    """Return the profile of `launchSettings.json` that `dotnet run` takes: the first of the project, else the first."""
    profiles = settings.get("profiles")
    found = [each for each in profiles.values() if isinstance(each, dict)] if isinstance(profiles, dict) else []
    return next((each for each in found if each.get("commandName") == "Project"), next(iter(found), {}))


def roll_forward_policies(folder: Path, root: Path) -> list[str]:
    """Return the policies that lie beside a project, that of the launch profile before that of the template.

    The template is `runtimeconfig.template.json` (learn.microsoft.com, ".NET runtime configuration settings").
    """
    profile = launch_profile(_settings(folder / "Properties/launchSettings.json", root))
    variables = profile.get("environmentVariables") if profile.get("commandName") == "Project" else None
    launched = variables.get("DOTNET_ROLL_FORWARD") if isinstance(variables, dict) else None
    templated = _settings(folder / "runtimeconfig.template.json", root).get("rollForward")
    return [each for each in (launched, templated) if isinstance(each, str)]


def _settings(path: Path, root: Path) -> dict[str, Any]:
    try:
        return object_of(open_manifest(path, root).text)
    except ManifestFault:
        return {}
