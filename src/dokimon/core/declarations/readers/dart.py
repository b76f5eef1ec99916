"""Dart and Flutter: `environment` of `pubspec.yaml`."""

from __future__ import annotations

from dokimon.core.declarations.requirement import Requirement, any_version, requirement, unreadable
from dokimon.core.reading.manifest import Manifest
from dokimon.core.reading.yaml import as_yaml


def read_pubspec(manifest: Manifest) -> list[Requirement]:
    """Read the versions of the Dart SDK and of Flutter (dart.dev, "The pubspec file", "SDK constraints")."""
    root = as_yaml(manifest)
    found = []
    named = root.get("environment")
    if named and not named.is_mapping:
        found.append(
            unreadable("dart", manifest.source(named.line), '"environment" must name versions, as sdk: ^3.0.0')
        )
    for key, tool in (("sdk", "dart"), ("flutter", "flutter")):
        value = root.get("environment", key)
        if value is None:
            continue
        source = manifest.source(value.line)
        if value.text is None:
            found.append(unreadable(tool, source, f'"{key}" must be text such as "^3.0.0"'))
        else:
            found.append(requirement(tool, value.text, "dart", source))
    if not any(each.tool == "flutter" for each in found) and root.get("dependencies", "flutter"):
        found.append(any_version("flutter", manifest.source(1), "the project depends on Flutter"))
    return found or [any_version("dart", manifest.source(1), "a pubspec.yaml is Dart's")]
