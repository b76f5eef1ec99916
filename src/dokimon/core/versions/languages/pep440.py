"""PEP 440 version specifiers, with pre-releases counted as versions. `packaging` parses the versions in them.

(Its specifiers decide alike, as a test holds, but take a fifth of the time of a whole `verify` to load.) The version set
follows PEP 440's "Exclusive ordered comparison": `<3.12` also leaves out the pre-releases of 3.12,
`>3.11` also its post-releases. `===` compares text; its set holds the one version, or none when it is not one.
"""

import re

from packaging.version import InvalidVersion, Version

from dokimon.core.expressions import expression
from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.orders.pep440 import PEP440
from dokimon.core.versions.sets import ALL, HIGHEST, LOWEST, NONE, Cut, VersionSet, after, before, between

_LAST = 10**12
"""Represents the last post-release or local version: no project counts that far."""


def _start(version: Version) -> Cut:
    """The cut before every pre-release of `version`."""
    return before(Version(f"{version.public}.dev0") if not version.is_devrelease else version, str(version))


def _with_locals(version: Version) -> Cut:
    """The cut after `version` and its local versions: a numeric local segment sorts after any text."""
    last = version if version.local else Version(f"{version.public}+{_LAST}")
    return after(last, str(version))


def _with_posts(version: Version) -> Cut:
    """The cut after `version` and its post-releases; after one of these, or a development release, there are none."""
    if version.is_postrelease or version.is_devrelease:
        return _with_locals(version)
    return after(Version(f"{version.public}.post{_LAST}"), str(version))


def _prefix(text: str) -> tuple[Cut, Cut]:
    """The cuts around every version that starts with the numbers of `text`, such as 3.11."""
    version = Version(text)
    raised = (*version.release[:-1], version.release[-1] + 1)
    following = ".".join(str(n) for n in raised)
    return (
        before(Version(f"{version.epoch}!{version.base_version.split('!')[-1]}.dev0"), text),
        before(Version(f"{version.epoch}!{following}.dev0"), following),
    )


def _set_of(operator: str, text: str) -> VersionSet:
    if operator in ("==", "!=") and text.endswith(".*"):
        inside = between(*_prefix(text[:-2]))
        return inside if operator == "==" else ~inside
    try:
        version = Version(text)
    except InvalidVersion:
        return NONE
    at, behind = before(version, str(version)), _with_locals(version)
    if operator == "~=":
        release = ".".join(str(n) for n in version.release[:-1])
        return between(at, _prefix(f"{version.epoch}!{release}")[1])
    exactly = between(at, behind)
    return {
        ">=": between(at, HIGHEST),
        "<=": between(LOWEST, behind),
        ">": between(_with_posts(version), HIGHEST),
        "<": between(LOWEST, at if version.is_prerelease else _start(version)),
        "!=": ~exactly,
    }.get(operator, exactly)


_SPECIFIER = expression(r"\s*(===|~=|==|!=|<=|>=|<|>)\s*([^\s,;)]+)\s*")
_RELEASE = r"v?(?:\d+!)?\d+(?:\.\d+)*"


def _parts(text: str) -> list[tuple[str, str]]:
    """Return the operators and versions of a specifier set (PEP 440, "Version specifiers"); raises `VersionFault`."""
    found, position = [], 0
    for part in text.split(","):
        if part.strip():
            match = _SPECIFIER.fullmatch(part)
            if not match or not _allowed(match[1], match[2]):
                at = position + len(part) - len(part.lstrip())
                raise VersionFault(text, at, "is not a version specifier as PEP 440 writes it")
            found.append((match[1], match[2]))
        position += len(part) + 1
    return found


def _allowed(operator: str, version: str) -> bool:
    """Only `==` and `!=` take a `.*` or a local version; `~=` needs two numbers; `===` takes anything."""
    if operator == "===":
        return True
    if operator in ("==", "!=") and version.endswith(".*"):
        return re.fullmatch(_RELEASE, version[:-2], re.IGNORECASE | re.ASCII) is not None
    try:
        parsed = Version(version)
    except InvalidVersion:
        return False
    return operator in ("==", "!=") or (not parsed.local and (operator != "~=" or len(parsed.release) > 1))


def compile(text: str) -> Constraint:
    """Compile a specifier set such as `>=3.11, <3.14`; an empty one accepts all. Raises `VersionFault`."""
    parts = _parts(text)
    versions = ALL
    for operator, version in parts:
        versions &= _set_of(operator, version)
    literal = {version.lower() for operator, version in parts if operator == "==="}
    if not literal:
        return Constraint(language="pep440", text=text, order=PEP440, versions=versions)

    def accepts(version: Version) -> bool:
        return version in versions and literal == {str(version).lower()}

    return Constraint(language="pep440", text=text, order=PEP440, versions=versions, rule=accepts)
