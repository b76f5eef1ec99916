"""What `global.json` accepts of the .NET SDKs, and which the host takes (learn.microsoft.com, "global.json overview").

Written as `8.0.302 latestFeature`, with `allowPrerelease=false` behind it where that is set; a version may be left out. In
8.0.302 the 3 is the feature band and 02 the patch.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import partial

import msgspec

from dokimon.core.expressions import expression
from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.languages.comparing import compare
from dokimon.core.versions.orders import semver
from dokimon.core.versions.orders.semver import SEMVER, Key
from dokimon.core.versions.sets import ALL, HIGHEST, before, between

POLICIES = (
    "patch", "feature", "minor", "major", "latestPatch", "latestFeature", "latestMinor", "latestMajor", "disable",
)  # fmt: skip
DEFAULT, WITHOUT_VERSION = "patch", "latestMajor"
"""The policies where none is named: beside a version (what the host does; the page says latestPatch), and without one."""

_VERSION = expression(r"\d.*")


class _Asked(msgspec.Struct, frozen=True):
    version: str | None
    key: Key | None
    policy: str
    pre_releases: bool


def version_of(text: str) -> Key:
    """Return the key of the version of an SDK, as the host reads one: no `v`, no blanks. Raises `VersionFault`."""
    key = semver.parse(text) if _VERSION.fullmatch(text) and text == text.strip() else None
    if key is None:
        raise VersionFault(text, 0, "is not a version of the form 8.0.302")
    return key


def is_version(text: str) -> bool:
    """Whether the host reads a text, the name of a folder, as a version."""
    try:
        version_of(text)
    except VersionFault:
        return False
    return True


def policy_named(text: str) -> str | None:
    """Return a policy as it is written, whose letters may be of any case; none where there is no such policy."""
    return next((each for each in POLICIES if each.lower() == text.lower()), None)


def _asked(text: str) -> _Asked:
    version, policy, pre_releases = None, None, True
    for word in filter(None, re.split(r"[\s,;]+", text)):
        position = text.find(word)
        name, _, value = word.replace(":", "=").rpartition("=")
        if word[0].isdigit() and version is None:
            version = word
        elif name.lower() == "allowprerelease":
            if value.lower() not in ("true", "false"):
                raise VersionFault(text, position, "allowPrerelease is true or false")
            pre_releases = value.lower() == "true"
        else:
            policy = policy_named(value)
            if policy is None or name.lower() not in ("", "rollforward"):
                names = ", ".join(POLICIES)
                raise VersionFault(text, position, f"is not a roll-forward policy; the policies are {names}")
    try:
        key = version_of(version) if version else None
    except VersionFault as fault:
        raise VersionFault(text, 0, fault.says) from None
    pre_releases = pre_releases or (key is not None and semver.is_pre_release(key))  # who asks for one has to get it
    return _Asked(version, key, policy or (DEFAULT if version else WITHOUT_VERSION), pre_releases)


def compile(text: str) -> Constraint:
    """Compile a version with a roll-forward policy. Raises `VersionFault`."""
    asked = _asked(text)
    versions = ALL
    if asked.key is not None and asked.version:
        versions = compare("=", asked.key, asked.version)
        if asked.policy != "disable":
            end = _end(asked)
            bound = before(semver.key_of(*end, "0"), ".".join(map(str, end))) if end else HIGHEST
            versions = between(before(asked.key, asked.version), bound)

    def accepts(candidate: Key) -> bool:
        return candidate in versions and (asked.pre_releases or not semver.is_pre_release(candidate))

    return Constraint(
        language="sdk-rollforward", text=text, order=SEMVER, versions=versions, rule=accepts, taken=partial(taken, text)
    )


def _end(asked: _Asked) -> tuple[int, int, int] | None:
    """Return the first version above all that the policy accepts; none where there is no end."""
    major, minor, patch = asked.key[:3] if asked.key else (0, 0, 0)
    return {
        "patch": (major, minor, (patch // 100 + 1) * 100),
        "feature": (major, minor + 1, 0),
        "minor": (major + 1, 0, 0),
    }.get(asked.policy.removeprefix("latest").lower())


def taken(text: str, versions: Iterable[str]) -> str | None:
    """Return which of the installed SDKs the host takes, none where it accepts none. Raises `VersionFault`.

    A policy of the latest takes the newest that it accepts; any other the nearest feature band, and in it the newest.
    `patch` takes the very version that is asked for first.
    """
    asked, constraint = _asked(text), compile(text)
    known = [(version_of(each), each) for each in versions if is_version(each)]
    accepted = sorted((key, each) for key, each in known if constraint.rule and constraint.rule(key))
    if not accepted:
        return None
    if asked.policy.startswith("latest"):
        return accepted[-1][1]
    exact = asked.policy == "patch" and next((each for key, each in accepted if key == asked.key), None)
    nearest = accepted[0][0]
    band = [each for key, each in accepted if _band(key) == _band(nearest)]
    return exact or band[-1]


def _band(key: Key) -> tuple[int, int, int]:
    return key[0], key[1], key[2] // 100
