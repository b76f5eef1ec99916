"""The addresses by which a project says whether it is well: of its container file, its compose file, its probes."""

from __future__ import annotations

import re
from collections.abc import Iterator
from itertools import islice
from pathlib import Path

from dokimon.core.files import text_of

_URL = re.compile(
    r"(?:https?://)?(?:localhost|127\.0\.0\.1|0\.0\.0\.0|\[::1\])(?::\$?\{?\w+\}?(?::-\d+\})?)?(/[\w./-]+)"
)
_PROBE = re.compile(
    r"(?:liveness|readiness|startup)Probe:[ \t]*\n[ \t]*httpGet:[ \t]*\n(?:[ \t]+(?!path:)\w+:.*\n){0,9}"
    r"[ \t]+path:[ \t]*[\"']?(/[\w./-]+)"
)
_BUILT = re.compile(r"(?m)^    build:")
_HEALTHCHECK = re.compile(r"(?m)^    healthcheck:\s*\n((?:      .*\n?)+)")
_MOST = 3
_LARGEST = 200_000


def health_paths(folder: Path) -> tuple[str, ...]:
    """Return the paths, in the order in which they were found, each once; at most three."""
    return tuple(islice(dict.fromkeys(_found(folder)), _MOST))


def _found(folder: Path) -> Iterator[str]:
    for path in (folder / "Dockerfile", folder / "Containerfile"):
        for check in re.findall(r"(?m)^[ \t]*HEALTHCHECK\b(?:.*\\\n)*.*$", text_of(path, _LARGEST)):
            yield from _URL.findall(check)
    for pattern in ("k8s/*.y*ml", "kubernetes/*.y*ml", "deploy/*.y*ml", "*.k8s.y*ml"):
        for path in sorted(folder.glob(pattern))[:20]:
            yield from _PROBE.findall(text_of(path, _LARGEST))
    for name in ("compose.yaml", "compose.yml", "docker-compose.yml", "docker-compose.yaml"):
        text = text_of(folder / name, _LARGEST)
        for service in re.split(r"(?m)^  (?=[\w-]+:\s*$)", text)[1:]:
            check = _HEALTHCHECK.search(service)
            if check and _BUILT.search(service):  # that of a database tells nothing of the project
                yield from _URL.findall(check[1])
