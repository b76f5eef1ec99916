"""CMake's version arguments (cmake-commands(7)).

Of `cmake_minimum_required(VERSION 3.16...3.28)` only 3.16 is a demand: the second version says up to which policies
are known. `1.2...<2.0`, as `find_package` takes it, does end before 2.0.
"""

import re

from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.languages.comparing import compare
from dokimon.core.versions.orders.dotted import DOTTED

_VERSION = r"\d+(?:\.\d+){0,3}(?:-rc\d+)?"


def compile(text: str) -> Constraint:
    """Compile `min`, `min...max` or `min...<max`. Raises `VersionFault`."""
    found = re.fullmatch(rf"\s*({_VERSION})(?:\.\.\.(<)?({_VERSION}))?\s*", text)
    if not found:
        raise VersionFault(text, 0, "is neither a version nor a range such as 3.16...3.28")
    versions = compare(">=", DOTTED.key(found[1]), found[1])
    if found[3] and DOTTED.key(found[3]) < DOTTED.key(found[1]):
        raise VersionFault(text, found.start(3), "the range ends before it begins")
    if found[2]:
        versions &= compare("<", DOTTED.key(found[3]), found[3])
    return Constraint(language="cmake", text=text, order=DOTTED, versions=versions)
