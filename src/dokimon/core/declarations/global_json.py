"""`global.json` as the .NET host reads it (learn.microsoft.com, "global.json overview"): one with a fault is passed over.

The host itself decides what holds where the page is silent: see docs/versions.md.
"""

from __future__ import annotations

import json
from typing import Any

import msgspec

from dokimon.core.reading.json_places import without_comments
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.languages import sdk_rollforward

NAME = "global.json"
HOST = "$host$"
"""The folder of the host itself, in `paths`."""


class GlobalJson(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True):
    """What a `global.json` asks for.

    `wanted` is in the language `sdk-rollforward`, none where any SDK will do, and `version` the version in it. `paths` are
    the folders that SDKs are looked for in, in their order, none where that is the host's own alone. `says` are the
    project's own words for where none is found. `ignored` is why the host passes the file over, none where it does not.
    """

    wanted: str | None = None
    version: str | None = None
    paths: tuple[str, ...] | None = None
    says: str | None = None
    ignored: str | None = None


def read_text(text: str) -> GlobalJson:
    """Return what the text of a `global.json` asks for."""
    try:
        plain = without_comments(text.removeprefix("\ufeff")).lstrip()
        data, _ = json.JSONDecoder().raw_decode(plain)  # what follows is let be
    except (ValueError, RecursionError):
        return GlobalJson(ignored="it is not valid JSON")
    if not isinstance(data, dict):
        return GlobalJson(ignored="it is not a JSON object")
    sdk = data.get("sdk")
    if sdk is None:
        return GlobalJson()
    if not isinstance(sdk, dict):
        return GlobalJson(ignored='"sdk" is not an object')
    if wrong := _misfit(sdk):
        return GlobalJson(ignored=wrong)
    version, policy, released = sdk.get("version"), sdk.get("rollForward"), sdk.get("allowPrerelease") is False
    words = [version or "", policy or "", "allowPrerelease=false" if released else ""]
    return GlobalJson(
        wanted=" ".join(word for word in words if word) or None,
        version=version,
        paths=None if sdk.get("paths") is None else tuple(each for each in sdk["paths"] if isinstance(each, str)),
        says=sdk.get("errorMessage"),
    )


def _misfit(sdk: dict[str, Any]) -> str | None:
    """Return for what the host passes the file over."""
    version, policy, released = sdk.get("version"), sdk.get("rollForward"), sdk.get("allowPrerelease")
    if version is not None:
        if not isinstance(version, str):
            return '"sdk.version" is not text'
        try:
            sdk_rollforward.version_of(version)
        except VersionFault:
            return f"{version!r} is not a version of an SDK"
    if policy is not None:
        if not isinstance(policy, str):
            return '"sdk.rollForward" is not text'
        named = sdk_rollforward.policy_named(policy)
        if named is None:
            return f"{policy!r} is not a roll-forward policy"
        if version is None and named != "latestMajor":
            return f"rollForward {policy} wants a version beside it"
    if released is not None and not isinstance(released, bool):
        return '"sdk.allowPrerelease" is neither true nor false'
    paths, says = sdk.get("paths"), sdk.get("errorMessage")
    if paths is not None and not isinstance(paths, list):
        return '"sdk.paths" is not a list'
    if says is not None and not isinstance(says, str):
        return '"sdk.errorMessage" is not text'
    return None
