"""The order of SemVer 2.0.0 (§9 to §11), as npm writes versions: a leading `v` and spaces around are let pass."""

from dokimon.core.expressions import expression
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.orders import Order

_NUMBER = r"0|[1-9][0-9]*"
_NAME = rf"(?:{_NUMBER}|[0-9]*[A-Za-z-][0-9A-Za-z-]*)"
PRE_RELEASE = rf"{_NAME}(?:\.{_NAME})*"
BUILD = r"[0-9A-Za-z-]+(?:\.[0-9A-Za-z-]+)*"
_VERSION = expression(rf"v?({_NUMBER})\.({_NUMBER})\.({_NUMBER})(?:-({PRE_RELEASE}))?(?:\+{BUILD})?")

PreKey = tuple[object, ...]
Key = tuple[int, int, int, PreKey]
_RELEASE: PreKey = (1,)


def key_of(major: int, minor: int, patch: int, pre_release: str = "") -> Key:
    """Return the sort key of a version given in parts; identifiers compare as §11.4 says."""
    if not pre_release:
        return (major, minor, patch, _RELEASE)
    names = tuple((0, int(n), "") if n.isdecimal() else (1, 0, n) for n in pre_release.split("."))
    return (major, minor, patch, (0, names))


def is_pre_release(key: Key) -> bool:
    """Whether the version has a pre-release part."""
    return key[3] != _RELEASE


def parse(text: str) -> Key:
    """Return the sort key of `text`; raise `VersionFault` when it is not a SemVer version."""
    found = _VERSION.fullmatch(text.strip())
    if not found:
        raise VersionFault(text, 0, "is not a version of the form 1.2.3")
    major, minor, patch, pre_release = found.groups()
    return key_of(int(major), int(minor), int(patch), pre_release or "")


SEMVER = Order("semver", parse)
