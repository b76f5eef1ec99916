"""What `global.json` accepts of the .NET SDKs (learn.microsoft.com, "global.json overview").

Written as `8.0.302 latestFeature`, with `allowPrerelease=false` behind it where that is set. In 8.0.302 the 3 is the
feature band and 02 the patch. Which installed SDK of several is taken is another question: this is which would do.
"""

from __future__ import annotations

import re

from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.languages.comparing import compare
from dokimon.core.versions.orders import semver
from dokimon.core.versions.orders.semver import SEMVER, Key
from dokimon.core.versions.sets import HIGHEST, before, between

POLICIES = (
    "patch", "feature", "minor", "major", "latestPatch", "latestFeature", "latestMinor", "latestMajor", "disable",
)  # fmt: skip
DEFAULT = "latestPatch"
"""The policy where a version is named and no policy."""


def compile(text: str) -> Constraint:
    """Compile a version with a roll-forward policy. Raises `VersionFault`."""
    version, *words = re.split(r"[\s,;]+", text.strip())
    policy, pre_releases = DEFAULT, True
    for word in words:
        position = text.find(word)
        name, _, value = word.replace(":", "=").rpartition("=")
        if name.lower() == "allowprerelease":
            if value.lower() not in ("true", "false"):
                raise VersionFault(text, position, "allowPrerelease is true or false")
            pre_releases = value.lower() == "true"
            continue
        found = next((each for each in POLICIES if each.lower() == value.lower()), None)
        if found is None or name.lower() not in ("", "rollforward"):
            raise VersionFault(text, position, f"is not a roll-forward policy; the policies are {', '.join(POLICIES)}")
        policy = found
    try:
        key = semver.parse(version)
    except VersionFault as fault:
        raise VersionFault(text, 0, fault.says) from None
    versions = compare("=", key, version)
    if policy != "disable":
        major, minor, patch = key[:3]
        kind = policy.removeprefix("latest").lower()
        following = {
            "patch": (major, minor, (patch // 100 + 1) * 100),
            "feature": (major, minor + 1, 0),
            "minor": (major + 1, 0, 0),
        }.get(kind)
        end = before(semver.key_of(*following, "0"), ".".join(map(str, following))) if following else HIGHEST
        versions = between(before(key, version), end)

    def accepts(candidate: Key) -> bool:
        return candidate in versions and (pre_releases or not semver.is_pre_release(candidate) or candidate == key)

    return Constraint(language="sdk-rollforward", text=text, order=SEMVER, versions=versions, rule=accepts)
