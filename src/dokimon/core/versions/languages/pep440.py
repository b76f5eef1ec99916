"""PEP 440 version specifiers. `packaging` parses them and decides membership, with pre-releases counted as versions.

The version set follows PEP 440's "Exclusive ordered comparison": `<3.12` also leaves out the pre-releases of 3.12,
`>3.11` also its post-releases. `===` compares text; its set holds the one version, or none when it is not one.
"""

from packaging.specifiers import InvalidSpecifier, Specifier, SpecifierSet
from packaging.version import InvalidVersion, Version

from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.orders.pep440 import PEP440
from dokimon.core.versions.sets import ALL, HIGHEST, LOWEST, NONE, Cut, VersionSet, after, before, between

_LAST = 10**12
"""Stands for the last post-release or local version: no project counts that far."""


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


def _set_of(specifier: Specifier) -> VersionSet:
    operator, text = specifier.operator, specifier.version
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


def compile(text: str) -> Constraint:
    """Compile a specifier set such as `>=3.11, <3.14`; an empty one accepts all. Raises `VersionFault`."""
    try:
        specifiers = SpecifierSet(text)
    except InvalidSpecifier:
        position = _position_of_fault(text)
        raise VersionFault(text, position, "is not a version specifier as PEP 440 writes it") from None
    versions = ALL
    for specifier in specifiers:
        versions &= _set_of(specifier)

    def accepts(version: Version) -> bool:
        return specifiers.contains(version, prereleases=True)

    return Constraint("pep440", text, PEP440, versions, accepts)


def _position_of_fault(text: str) -> int:
    position = 0
    for part in text.split(","):
        if part.strip():
            try:
                Specifier(part)
            except InvalidSpecifier:
                return position + len(part) - len(part.lstrip())
        position += len(part) + 1
    return 0
