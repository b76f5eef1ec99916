"""What a phone would load of a React Native project: the manifest of each platform, and its bundle."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from pathlib import Path

import pytest

from dokimon.core.checks.phones import Phones
from dokimon.core.planning.phones import Served, serves_phones
from serving import served
from test_checks import scene

FAULT = {"type": "TransformError", "filename": "lib/tide.js", "lineNumber": 3, "message": "Unexpected token"}


def metro(path: str, headers: Mapping[str, str]) -> tuple[int, str, str]:
    """Answer as Expo's server does that knows of iOS alone, and whose code does not compile for Android."""
    if path.startswith("/index.bundle"):
        return (
            (500, "application/json", json.dumps(FAULT))
            if "android" in path
            else (200, "text/javascript", "var bundle")
        )
    manifest = {
        "launchAsset": {"url": "http://localhost:{port}/index.bundle?ios".format(port=headers["Host"].split(":")[1])}
    }
    told = manifest if headers.get("expo-platform") == "ios" else {"errors": ["no such platform"]}
    return 200, "application/json", json.dumps(told)


@pytest.fixture
def origin() -> Iterator[str]:
    with served(metro) as origin:
        yield origin


@pytest.mark.parametrize(
    "platforms, has_manifest, verdicts, says",
    [
        (("ios",), True, "passed", "10 bytes"),
        (("ios", "android"), True, "passed failed", "no manifest that names a bundle"),
        (("android", "ios"), False, "failed", "status 500: TransformError lib/tide.js:3 Unexpected token"),
    ],
)
def test_each_bundle_is_asked_for_once(
    origin: str, platforms: tuple[str, ...], has_manifest: bool, verdicts: str, says: str
) -> None:
    checks = Phones(platforms=platforms, has_manifest=has_manifest).look(scene(Path("/"), origin=origin))
    assert " ".join(check.verdict for check in checks) == verdicts and says in checks[-1].seen, checks


@pytest.mark.parametrize(
    "script, app, served",
    [
        ("expo start", {"expo": {"platforms": ["ios", "web"]}}, Served(("ios",), True)),
        ("expo start", {}, Served(("ios", "android"), True)),
        ("react-native start", {"name": "tides"}, Served(("ios", "android"), False)),
        ("expo start --web", {}, None),
        ("vite", {}, None),
    ],
)
def test_what_serves_phones(tmp_path: Path, script: str, app: object, served: Served | None) -> None:
    (tmp_path / "package.json").write_text(json.dumps({"scripts": {"start": script}}), encoding="utf-8")
    (tmp_path / "app.json").write_text(json.dumps(app), encoding="utf-8")
    assert serves_phones(tmp_path, ("npm", "run", "start")) == served
