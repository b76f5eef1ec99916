"""The Swift tools version (SwiftPM, "PackageDescription"): the oldest toolchain that can read the manifest."""

import re

from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.languages.comparing import compare
from dokimon.core.versions.orders.dotted import DOTTED


def compile(text: str) -> Constraint:
    """Compile a tools version such as 5.9. Raises `VersionFault`."""
    bare = text.strip()
    if not re.fullmatch(r"\d+(\.\d+){0,2}", bare):
        raise VersionFault(text, 0, "is not a version of the Swift tools such as 5.9")
    return Constraint(language="swift", text=text, order=DOTTED, versions=compare(">=", DOTTED.key(bare), bare))
