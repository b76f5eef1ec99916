"""The `go` and `toolchain` lines of `go.mod` and `go.work` (Go Modules Reference): each names the oldest to do."""

import re

from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.languages.comparing import compare
from dokimon.core.versions.orders.go import GO
from dokimon.core.versions.sets import ALL


def compile(text: str) -> Constraint:
    """Compile the version on such a line; `default` accepts every toolchain. Raises `VersionFault`."""
    bare = text.strip()
    if bare == "default":
        return Constraint(language="go", text=text, order=GO, versions=ALL)
    if re.search(r"(?:^|\.)0\d", bare.removeprefix("go")):
        raise VersionFault(text, 0, "has a number with a leading zero, which Go refuses")
    return Constraint(language="go", text=text, order=GO, versions=compare(">=", GO.key(bare), bare.removeprefix("go")))
