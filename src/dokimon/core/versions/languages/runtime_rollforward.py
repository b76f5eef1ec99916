"""What a program of .NET accepts of the shared frameworks, and which the host takes (learn.microsoft.com, "Select which .NET
version to use", "Framework-dependent apps").

Written as `8.0.0 Minor`: the version that it was built for and the roll-forward policy, which may be left out.
"""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial

from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.languages.comparing import compare
from dokimon.core.versions.orders import Order, semver
from dokimon.core.versions.orders.semver import Key
from dokimon.core.versions.sets import HIGHEST, before, between

POLICIES = ("LatestPatch", "Minor", "LatestMinor", "Major", "LatestMajor", "Disable")
DEFAULT = "Minor"


def version_of(text: str) -> Key:
    """Return the key of a version; numbers that it leaves out are zeros. Raises `VersionFault`."""
    numbers, dash, name = text.strip().partition("-")
    return semver.parse(".".join([*numbers.split("."), "0", "0"][: max(numbers.count(".") + 1, 3)]) + dash + name)


RUNTIMES = Order("runtime", version_of)


def policy_named(text: str) -> str | None:
    """Return a policy as it is written, whose letters may be of any case; none where there is no such policy."""
    return next((each for each in POLICIES if each.lower() == text.lower()), None)


def _asked(text: str) -> tuple[str, Key, str]:
    version, *words = text.split() or [""]
    policy = policy_named(words[0]) if words else DEFAULT
    if policy is None or len(words) > 1:
        raise VersionFault(text, len(version) + 1, f"is not a roll-forward policy: they are {', '.join(POLICIES)}")
    return version, version_of(version), policy


def compile(text: str) -> Constraint:
    """Compile a version with a roll-forward policy. Raises `VersionFault`."""
    version, key, policy = _asked(text)
    major, minor, *_ = key
    end = {
        "LatestPatch": (major, minor + 1, 0),
        "Minor": (major + 1, 0, 0),
        "LatestMinor": (major + 1, 0, 0),
    }.get(policy)
    bound = before(semver.key_of(*end, "0"), ".".join(map(str, end))) if end else HIGHEST
    versions = compare("=", key, version) if policy == "Disable" else between(before(key, version), bound)
    return Constraint(
        language="runtime-rollforward", text=text, order=RUNTIMES, versions=versions, taken=partial(taken, text)
    )


def taken(text: str, versions: Iterable[str]) -> str | None:
    """Return which of the installed frameworks the host takes, none where it accepts none. Raises `VersionFault`.

    Released ones alone where one will do, unless a pre-release is asked for. The nearest minor version, or the newest where
    the policy is of the latest; in it the newest patch, unless the nearest is a pre-release.
    """
    _, key, policy = _asked(text)
    accepted = compile(text).versions
    found = sorted((version_of(each), each) for each in versions if version_of(each) in accepted)
    released = [each for each in found if not semver.is_pre_release(each[0])]
    if released and not semver.is_pre_release(key):
        found = released
    if not found:
        return None
    if policy in ("LatestMinor", "LatestMajor"):
        return found[-1][1]
    nearest, name = found[0]
    if semver.is_pre_release(nearest):
        return name
    return [each for each in found if each[0][:2] == nearest[:2]][-1][1]
