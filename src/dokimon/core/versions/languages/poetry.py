"""The constraints of Python project files with carets and tildes: `^3.11`, `~3.11`, `3.11.*`, `>=3.8,<4`, `||` for or.

Comparisons are PEP 440's, and so is the order (`~=3` is let pass and means `~3`); carets and tildes are as in Poetry's
documentation ("Dependency specification").
An end such as `<4` leaves out the pre-releases of 4 (PEP 440, "Exclusive ordered comparison").
"""

import re

from dokimon.core.expressions import expression
from dokimon.core.versions.constraint import Constraint
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.languages import pep440
from dokimon.core.versions.languages.comparing import breaking_position, dotted_label, next_at
from dokimon.core.versions.orders.pep440 import PEP440
from dokimon.core.versions.orders.pep440 import parse as version_of
from dokimon.core.versions.sets import ALL, NONE, VersionSet, before, between

_TERM = expression(r"\s*(\^|~=(?=\s*v?\d+(?!\d|\.\d))|~(?!=))?\s*(v?\d[^\s,|]*)\s*")
_SEPARATOR = expression(r"\s*,\s*|(?<![=<>!~^,\s])\s+(?=[=<>!~^*\d])")


def _term(text: str, whole: str, offset: int) -> VersionSet:
    bare = text.strip()
    if bare == "*":
        return ALL
    found = _TERM.fullmatch(text)
    if found and found[1]:
        version = version_of(found[2])
        numbers = version.release
        position = breaking_position(numbers) if found[1] == "^" else min(1, len(numbers) - 1)
        following = dotted_label(next_at(numbers, position))
        return between(before(version, str(version)), before(version_of(f"{following}.dev0"), following))
    written = f"=={bare}" if found else bare
    if re.fullmatch(r"[<>=!]=?\s*\d+(\.\d+)*", written):  # a single = is the same as two here
        written = re.sub(r"^=(?!=)", "==", written)
    try:
        return pep440.compile(written).versions if bare else _nothing(whole, offset)
    except VersionFault as fault:
        raise VersionFault(whole, offset + len(text) - len(text.lstrip()), fault.says) from None


def _nothing(whole: str, offset: int) -> VersionSet:
    raise VersionFault(whole, offset, "nothing stands here")


def compile(text: str) -> Constraint:
    """Compile such a constraint. Raises `VersionFault`."""
    versions, offset = NONE, 0
    for alternative in re.split(r"(\|\|?)", text):
        if not alternative.startswith("|"):
            joined, position = ALL, len(alternative) - len(alternative.lstrip())
            for separator in [*_SEPARATOR.finditer(alternative.rstrip(), position), None]:
                end = separator.start() if separator else len(alternative)
                joined &= _term(alternative[position:end], text, offset + position)
                position = separator.end() if separator else end
            versions |= joined
        offset += len(alternative)
    return Constraint(language="poetry", text=text, order=PEP440, versions=versions)
