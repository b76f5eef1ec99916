"""The order of NuGet: up to four numbers, then SemVer's pre-release names, compared without regard to case."""

from typing import Any, cast

from dokimon.core.expressions import expression
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.orders import Order, semver

_VERSION = expression(r"(\d+)(?:\.(\d+))?(?:\.(\d+))?(?:\.(\d+))?(?:-([0-9A-Za-z.-]+))?(?:\+[0-9A-Za-z.-]+)?")

Key = tuple[int, int, int, int, object]


def key_of(numbers: tuple[int, ...], pre_release: str = "") -> Key:
    """Return the sort key of a version in parts; missing numbers are zeros."""
    major, minor, patch, revision = (*numbers, 0, 0, 0, 0)[:4]
    return (major, minor, patch, revision, semver.key_of(0, 0, 0, pre_release.lower())[3])


def pre_release_of(key: Key) -> str:
    """Return the name of the pre-release of a key, in small letters; empty for a release."""
    kind, *rest = cast("tuple[Any, ...]", key[4])
    return "" if kind else ".".join(name or str(number) for _, number, name in rest[0])


def parse(text: str) -> Key:
    """Return the sort key of `text`; raises `VersionFault`."""
    found = _VERSION.fullmatch(text.strip())
    if not found:
        raise VersionFault(text, 0, "is not a version as NuGet writes it, such as 1.2.3 or 1.2.3-beta.1")
    return key_of(tuple(int(n) for n in found.groups()[:4] if n), found[5] or "")


NUGET = Order("nuget", parse)
