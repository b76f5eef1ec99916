"""The order of Gradle (user manual, "Version ordering").

Parts lie between dots, dashes, underscores, pluses and changes between digits and letters. Numbers are higher than
words; among words `dev` is lowest, then come others in the order of the alphabet, then rc, snapshot, final, ga,
release, sp.
"""

import re

from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.orders import Order

_WORDS = {"dev": -1, "rc": 1, "snapshot": 2, "final": 3, "ga": 4, "release": 5, "sp": 6}

Part = tuple[int, int, str]
END: Part = (1, -1, "")
"""Where a version ends: below a further number, above a further word."""


def parts_of(text: str) -> list[Part]:
    """Return the sortable parts of a version, without the end."""
    found = []
    for part in re.findall(r"\d+|[^\d.\-_+]+", text.strip()):
        word = part.lower()
        if part.isdecimal():
            found.append((1, int(part), ""))
        else:
            found.append((0, _WORDS.get(word, 0), "" if word in _WORDS else part))
    return found


def parse(text: str) -> tuple[Part, ...]:
    """Return the sort key of `text`; raises `VersionFault` for an empty one."""
    if not text.strip():
        raise VersionFault(text, 0, "is empty")
    return (*parts_of(text), END)


GRADLE = Order("gradle", parse)
