"""The `go` and `toolchain` lines of `go.mod` and `go.work` (Go Modules Reference): each names the oldest to do."""

from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.languages.comparing import compare
from dokimon.core.versions.orders.go import GO
from dokimon.core.versions.sets import ALL


def compile(text: str) -> Constraint:
    """Compile the version on such a line; `default` accepts every toolchain. Raises `VersionFault`."""
    bare = text.strip()
    if bare == "default":
        return Constraint(language="go", text=text, order=GO, versions=ALL)
    return Constraint(language="go", text=text, order=GO, versions=compare(">=", GO.key(bare), bare.removeprefix("go")))
