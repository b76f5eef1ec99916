"""The order of Dart's packages: SemVer, but what follows a plus counts as well (pub, "Semantic versions")."""

import re

from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.orders import Order, semver

VERSION = r"(\d+)\.(\d+)\.(\d+)(?:-([0-9A-Za-z-]+(?:\.[0-9A-Za-z-]+)*))?(?:\+([0-9A-Za-z-]+(?:\.[0-9A-Za-z-]+)*))?"

Key = tuple[int, int, int, object, object]


def key_of(major: int, minor: int, patch: int, pre_release: str = "", build: str = "") -> Key:
    """Return the sort key of a version in parts: without a build it comes first."""
    numbers = semver.key_of(major, minor, patch, pre_release)
    return (*numbers, semver.key_of(0, 0, 0, build)[3][1:] if build else ())


def parse(text: str) -> Key:
    """Return the sort key of `text`; raises `VersionFault`."""
    found = re.fullmatch(VERSION, text.strip())
    if not found:
        raise VersionFault(text, 0, "is not a version of the form 1.2.3")
    return key_of(int(found[1]), int(found[2]), int(found[3]), found[4] or "", found[5] or "")


DART = Order("dart", parse)
