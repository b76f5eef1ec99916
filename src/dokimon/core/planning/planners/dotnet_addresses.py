"""Where a project of ASP.NET Core listens, and the paths that it names: launch settings, app settings, requests, code."""

from __future__ import annotations

import re
from collections.abc import Iterator
from itertools import islice
from pathlib import Path
from typing import Any

from dokimon.core.declarations.msbuild.starting import launch_profile, object_of
from dokimon.core.files import text_of

_LARGEST = 200_000
_MOST_FILES = 60
_MOST_PATHS = 6


def usual_port(folder: Path) -> int:
    """Return the port that the project listens on: of its settings, of the launch profile that `dotnet run` takes, or 5000.

    That is the first profile of the kind `Project` (learn.microsoft.com, "dotnet run"); plain HTTP is preferred.
    """
    addresses = [*_of_settings(folder), str(_profile(folder).get("applicationUrl", ""))]
    for text in addresses:
        for scheme in ("http", "https"):
            if found := re.search(rf"\b{scheme}://[^:/;]{{1,200}}:(\d{{1,5}})\b", text):
                return int(found[1])
    return 5000


def named_paths(folder: Path) -> tuple[str, ...]:
    """Return the paths that the project names, those of its launch profile and its requests first; a few."""
    found = (path.rstrip("/") for path in _paths(folder))
    return tuple(islice(dict.fromkeys(path for path in found if _PATH.fullmatch(path)), _MOST_PATHS))


_PATH = re.compile(r"(?:/[\w.~%-]+)+(?:\?[\w.~%=&-]*)?")


def _object(path: Path) -> dict[str, Any]:
    return object_of(text_of(path, _LARGEST))


def _profile(folder: Path) -> dict[str, Any]:
    return launch_profile(_object(folder / "Properties/launchSettings.json"))


def _of_settings(folder: Path) -> Iterator[str]:
    for name in ("appsettings.Development.json", "appsettings.json"):
        settings = _object(folder / name)
        kestrel = settings.get("Kestrel")
        points = kestrel.get("Endpoints") if isinstance(kestrel, dict) else None
        for point in points.values() if isinstance(points, dict) else ():
            if isinstance(point, dict):
                yield str(point.get("Url", ""))
        yield str(settings.get("Urls") or settings.get("urls") or "")


_REQUEST = re.compile(r"(?m)^(?:GET )?\s*(?:https?://[^/\s]+|\{\{\w+\}\})(/[\w./-]*)(?:\?\S*)?\s*(?:HTTP/\S+)?$")
_ROUTES = re.compile(r"\b(?:MapGet|MapHealthChecks|MapPrometheusScrapingEndpoint)\(\s*\"(/?[\w./-]+)\"")
_CONTROLLER = re.compile(r"\bclass (\w+)Controller\b")
_ROUTE = re.compile(r"\[Route\(\"([\w/\[\].-]+)\"\)\]")
_GET = re.compile(r"\[HttpGet(?:\(\"([\w/.-]*)\"[^)]*\))?[^\]]*\]")


def _paths(folder: Path) -> Iterator[str]:
    base = ""
    code = [text_of(path, _LARGEST) for path in _code(folder)]
    for text in code:
        if found := re.search(r"\bUsePathBase\(\s*\"(/[\w/-]+)\"", text):
            base = found[1].rstrip("/")
    if base:
        yield f"{base}/"
    launch = str(_profile(folder).get("launchUrl", ""))
    if launch and "{" not in launch:
        yield "/" + re.sub(r"^https?://[^/]+", "", launch).lstrip("/")
    for path in sorted(folder.glob("*.http"))[:3]:
        yield from _REQUEST.findall(text_of(path, _LARGEST))
    for text in code:
        for route in _ROUTES.findall(text):
            yield f"{base}/{route.lstrip('/')}"
        if "MapOpenApi(" in text:
            yield f"{base}/openapi/v1.json"
        if "UseSwaggerUI(" in text:
            yield f"{base}/swagger/index.html"
        yield from (f"{base}{path}" for path in _of_controllers(text))


def _of_controllers(text: str) -> Iterator[str]:
    controller, get = _CONTROLLER.search(text), _GET.search(text)
    route = _ROUTE.search(text)
    if controller and get and route and "{" not in route[1]:
        path = route[1].replace("[controller]", controller[1].lower()).strip("/")
        yield f"/{path}/{get[1]}".rstrip("/") if get[1] else f"/{path}"


def _code(folder: Path) -> list[Path]:
    """The files of C# that say what is routed: the program, and the controllers."""
    beside = [path for path in sorted(folder.glob("*.cs")) if path.is_file()]
    below = [path for each in ("Controllers", "Endpoints", "Api") for path in sorted(folder.glob(f"{each}/*.cs"))]
    return [*beside, *below][:_MOST_FILES]
