"""What a phone would load: of Expo the manifest of each platform and the bundle that it names, of Metro alone the bundle.

The server of a React Native project compiles nothing before a phone asks for it.
"""

from __future__ import annotations

import json
from typing import Any, ClassVar

from dokimon.core.checks.context import CheckContext
from dokimon.core.checks.fetching import Request, Response, fetch, own_path
from dokimon.core.checks.spec import CheckSpec
from dokimon.core.report.model import Check
from dokimon.core.text import clean

_BUNDLE_SECONDS = 180.0
"""A first bundle compiles all packages: that is time, not failure."""

_MANIFEST = "application/expo+json,application/json"


class Phones(CheckSpec, frozen=True, kw_only=True):
    """Not to be asked for: the default check of a run that serves phones. `has_manifest` is said of Expo's."""

    kind_name: ClassVar[str] = "phone"
    asks_server: ClassVar[bool] = True

    platforms: tuple[str, ...]
    has_manifest: bool = False

    @property
    def default_name(self) -> str:
        """The name of the check."""
        return "phone"

    def look(self, context: CheckContext) -> list[Check]:
        """Ask for the bundle of each platform once; the first that fails tells enough."""
        found: list[Check] = []
        for platform in self.platforms if context.origin else ():
            found.append(_bundle(platform, self.has_manifest, context))
            if found[-1].verdict == "failed":
                break
        return found


def _bundle(platform: str, has_manifest: bool, context: CheckContext) -> Check:
    assert context.origin is not None
    name, expected = f"{platform} bundle", "it compiles"
    path: str | None = f"/index.bundle?platform={platform}&dev=true&minify=false"
    if has_manifest:
        asked = Request(path="/", headers={"expo-platform": platform, "Accept": _MANIFEST})
        manifest = fetch(context.origin, asked, seconds=_BUNDLE_SECONDS)
        path = _launched(manifest, context.origin)
        if path is None:
            seen = clean(f"{manifest.status or manifest.fault}: no manifest that names a bundle; {_reason(manifest)}")
            return Check(name=name, verdict="failed", expected="a manifest", seen=seen, seconds=manifest.seconds)
    answer = fetch(context.origin, Request(path=path or "/", accept="*/*"), seconds=_BUNDLE_SECONDS)
    if answer.status == 200:
        size = f"{'more than ' if not answer.complete else ''}{len(answer.body)} bytes"
        return Check(name=name, verdict="passed", expected=expected, seen=size, seconds=answer.seconds)
    seen = clean(f"status {answer.status}: {_reason(answer)}" if answer.status else answer.fault or "nothing")
    return Check(name=name, verdict="failed", expected=expected, seen=seen, seconds=answer.seconds)


def _object(answer: Response) -> dict[str, Any]:
    try:
        data = json.loads(answer.text)
    except (ValueError, RecursionError):
        return {}
    return data if isinstance(data, dict) else {}


def _launched(manifest: Response, origin: str) -> str | None:
    """Return the path of the bundle that a manifest of Expo's names (docs.expo.dev, "Expo Updates v1", `launchAsset`)."""
    asset = _object(manifest).get("launchAsset")
    url = asset.get("url") if isinstance(asset, dict) else None
    return own_path(url, origin, "/") if isinstance(url, str) else None


def _reason(answer: Response) -> str:
    """Return what Metro says of a failure: the kind of error, the file and line, the message."""
    told = _object(answer)
    words = [str(told[key]) for key in ("type", "message") if isinstance(told.get(key), str)]
    if isinstance(told.get("filename"), str):
        words.insert(1, f"{told['filename']}:{told.get('lineNumber', '?')}")
    return clean(" ".join(" ".join(words).split()) or answer.text[:200], 300)
