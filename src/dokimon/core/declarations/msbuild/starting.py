"""What lies beside a project and says how its program is started: launch profiles, the template of its runtime settings."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from dokimon.core.reading.manifest import ManifestFault, as_json, open_manifest


def launch_policies(folder: Path, root: Path) -> list[str]:
    """Return the roll-forward policy of the launch profile that `dotnet run` takes: the first that starts the project."""
    profiles = _object(folder / "Properties/launchSettings.json", root).get("profiles")
    for profile in profiles.values() if isinstance(profiles, dict) else ():
        if isinstance(profile, dict) and profile.get("commandName") == "Project":
            variables = profile.get("environmentVariables")
            policy = variables.get("DOTNET_ROLL_FORWARD") if isinstance(variables, dict) else None
            return [policy] if isinstance(policy, str) else []
    return []


def template_policies(folder: Path, root: Path) -> list[str]:
    """Return the policy of `runtimeconfig.template.json` (learn.microsoft.com, ".NET runtime configuration settings")."""
    policy = _object(folder / "runtimeconfig.template.json", root).get("rollForward")
    return [policy] if isinstance(policy, str) else []


def _object(path: Path, root: Path) -> dict[str, Any]:
    """Return the object of JSON that a file of the checkout holds; an empty one where it holds none."""
    try:
        return as_json(open_manifest(path, root), comments=True)
    except ManifestFault:
        return {}
