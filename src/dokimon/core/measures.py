"""Measures as `dokimon.toml` writes them: durations, sizes, components with versions."""

from __future__ import annotations

import re

from dokimon.core.expressions import expression

_DURATION = expression(r"(\d+(?:\.\d+)?)\s*(ms|s|m|h)")
_UNITS = {"ms": 0.001, "s": 1.0, "m": 60.0, "h": 3600.0}


def seconds(duration: str) -> float:
    """Return the seconds that `60s`, `1.5m`, `200ms` or `1h` stand for; raises `ValueError`."""
    found = _DURATION.fullmatch(duration.strip())
    if not found:
        raise ValueError(f'"{duration}" is not a valid duration; write for example "60s" or "2m"')
    return float(found[1]) * _UNITS[found[2]]


_SIZE = expression(r"(\d+(?:\.\d+)?)\s*([kKMGT]?i?B)")
_SIZES = {
    "B": 1,
    "kB": 10**3,
    "KB": 10**3,
    "KiB": 2**10,
    "MB": 10**6,
    "GB": 10**9,
    "TB": 10**12,
    "MiB": 2**20,
    "GiB": 2**30,
    "TiB": 2**40,
}


def bytes_of(size: str) -> int:
    """Return the bytes that `4 GB` or `512 MiB` stand for (IEC 80000-13); raises `ValueError`."""
    found = _SIZE.fullmatch(size.strip())
    if not found:
        raise ValueError(f'"{size}" is not a valid size; write for example "4 GB"')
    if found[2] not in _SIZES:
        raise ValueError(f'"{size}" is not a valid size: "{found[2]}" is not a unit; write for example "4 GB"')
    return int(float(found[1]) * _SIZES[found[2]])


def any_size(size: str) -> float:
    """Return the bytes that a number alone or a size with its unit stands for; raises `ValueError`."""
    return float(size) if re.fullmatch(r"\d+(\.\d+)?", size.strip()) else bytes_of(size)


def name_and_versions(component: str) -> tuple[str, str | None]:
    """Return a component's name, and the versions that follow it (`ext-redis >=5`), if any do."""
    plain = component.strip()
    # The versions begin at the first word that can be one; what would go back over the text again and again is not tried.
    for gap in re.finditer(r"\s+(?=[<>=!]|\d)", plain[:_LONGEST_NAME]):
        if re.match(r"[<>=!]=?\s*\d|\d[\d.]*$", plain[gap.end() :]):
            return plain[: gap.start()], plain[gap.end() :]
    return plain, None


_LONGEST_NAME = 300
