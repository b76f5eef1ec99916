"""The order of Go toolchains ("Go Toolchains"): 1.21 < 1.21rc1 < 1.21.0, but before that 1.20 is the same as 1.20.0."""

from dokimon.core.expressions import expression
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.orders import Order

_VERSION = expression(r"(?:go)?(\d+)(?:\.(\d+)(?:\.(\d+)|(alpha|beta|rc)(\d+))?)?(?:[-+ ].*)?")
"""A pre-release stands behind the language version: `1.21rc1`, never `1.21.0rc1`."""

_KINDS = {"": 0, "alpha": 1, "beta": 2, "rc": 3}
_FIRST_WITH_LANGUAGE_VERSIONS = 21

Key = tuple[int, int, int, int, int]


def parse(text: str) -> Key:
    """Return the sort key; raises `VersionFault`. Without a patch number, 1.21 and later name a language version."""
    found = _VERSION.fullmatch(text.strip())
    if not found:
        raise VersionFault(text, 0, "is not a version of Go such as 1.22 or go1.22.3")
    major, minor = int(found[1]), int(found[2] or 0)
    kind = found[4] or ""
    released = not kind and minor < _FIRST_WITH_LANGUAGE_VERSIONS
    lowest = 0 if released else -1
    patch = int(found[3]) if found[3] else lowest
    return (major, minor, patch, _KINDS[kind], int(found[5] or 0))


GO = Order("go", parse)
