"""What lies beside a project and says how its program is started: launch profiles, the template of its runtime settings."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from dokimon.core.files import text_of
from dokimon.core.reading.json_places import without_comments

_LARGEST = 1024 * 1024


def launch_policies(folder: Path) -> list[str]:
    """Return the roll-forward policy of the launch profile that `dotnet run` takes: the first that starts the project."""
    profiles = _object(folder / "Properties/launchSettings.json").get("profiles")
    for profile in profiles.values() if isinstance(profiles, dict) else ():
        if isinstance(profile, dict) and profile.get("commandName") == "Project":
            variables = profile.get("environmentVariables")
            policy = variables.get("DOTNET_ROLL_FORWARD") if isinstance(variables, dict) else None
            return [policy] if isinstance(policy, str) else []
    return []


def template_policies(folder: Path) -> list[str]:
    """Return the policy of `runtimeconfig.template.json` (learn.microsoft.com, ".NET runtime configuration settings")."""
    policy = _object(folder / "runtimeconfig.template.json").get("rollForward")
    return [policy] if isinstance(policy, str) else []


def _object(path: Path) -> dict[str, Any]:
    """Return the object of JSON that a file holds; an empty one where it holds none."""
    try:
        data = json.loads(without_comments(text_of(path, _LARGEST)) or "{}")
    except (ValueError, RecursionError):
        return {}
    return data if isinstance(data, dict) else {}
