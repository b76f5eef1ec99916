"""Dart and Flutter: `environment` of `pubspec.yaml`."""

from __future__ import annotations

import re

import msgspec

from dokimon.core.declarations.requirement import Requirement, any_version, requirement, unreadable
from dokimon.core.expressions import expression
from dokimon.core.reading.manifest import Manifest, as_json
from dokimon.core.reading.yaml import as_yaml
from dokimon.core.source import Source
from dokimon.core.text import clean


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
            found.append(_sdk(tool, value.text, source))
    if not any(each.tool == "flutter" for each in found) and root.get("dependencies", "flutter"):
        found.append(any_version("flutter", manifest.source(1), "the project depends on Flutter"))
    return found or [any_version("dart", manifest.source(1), "a pubspec.yaml is Dart's")]


_BEFORE_THREE = expression(r"\s*(>=\s*(\d{1,4})\.(\d{1,4})\.\S+)\s+<\s*3\.0\.0\s*")


def _sdk(tool: str, wanted: str, source: Source) -> Requirement:
    """Dart 3 takes `>=2.12.0 <3.0.0` for `>=2.12.0 <4.0.0` (dart.dev, "Dart 3 migration guide"), null safety given."""
    found = _BEFORE_THREE.fullmatch(wanted)
    if tool == "dart" and found and (int(found[2]), int(found[3])) >= (2, 12):
        need = requirement(tool, f"{found[1]} <4.0.0", "dart", source, why="Dart 3 reads it as below 4.0.0")
        return msgspec.structs.replace(need, wanted=clean(wanted))
    return requirement(tool, wanted, "dart", source)


def read_lock(manifest: Manifest) -> list[Requirement]:
    """Read `sdks` of a pubspec.lock: what the locked packages ask of Dart and Flutter together."""
    sdks = as_yaml(manifest).get("sdks")
    found = []
    for key, tool in (("dart", "dart"), ("flutter", "flutter")):
        value = sdks.get(key) if sdks else None
        if value and value.text:
            source, why = manifest.source(value.line), "the locked packages ask for it"
            found.append(requirement(tool, value.text, "dart", source, why=why))
    return found


def read_fvm(manifest: Manifest) -> list[Requirement]:
    """Read `.fvmrc`, or the older `fvm_config.json`, which pins Flutter for a folder (fvm.app, "Configuration")."""
    data = as_json(manifest, comments=True)
    key = "flutter" if "flutter" in data else "flutterSdkVersion"
    wanted = data.get(key)
    if not isinstance(wanted, str):
        return []
    source = manifest.json_source(key)
    if not re.match(r"\d", wanted):
        return [any_version("flutter", source, f"it picks the channel {wanted}")]
    return [requirement("flutter", wanted, "plain", source)]
