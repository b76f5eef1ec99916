"""What a module of JavaScript imports from its own origin (ECMAScript §16.2.2): read as text, never run."""

from __future__ import annotations

import re

from dokimon.core.expressions import expression

_LINE_COMMENT = expression(r"^[ \t]*//[^\n]*", re.MULTILINE)
_IMPORT = expression(
    r"(?:^|[;}\n])[ \t]*(?:import|export)\b[ \t]*(?:[\w$*{][^\"'();]{0,1000}?\bfrom[ \t]*)?"
    r"[\"']((?:/|\.{1,2}/)[^\"'\s\\]{1,500})[\"']"
)
_LARGEST = 100_000
"""Characters that are read: imports stand at the beginning."""

_MOST = 100


def imported(text: str) -> list[str]:
    """Return the addresses that a module imports by `/…`, `./…` or `../…`, each once, in its order; at most a hundred.

    A bare name (`vue`) is not an address: what it stands for is the server's or an import map's affair. What is imported
    only when it is called for (`import(…)`) is left out.
    """
    plain = _LINE_COMMENT.sub("", _without_comments(text[:_LARGEST]))
    found = dict.fromkeys(match[1] for match in _IMPORT.finditer(plain))
    return list(found)[:_MOST]


def _without_comments(text: str) -> str:
    """Leave out what stands between `/*` and `*/` (ECMAScript §12.4), in one pass."""
    pieces, place = [], 0
    while (start := text.find("/*", place)) >= 0 and (end := text.find("*/", start + 2)) >= 0:
        pieces.append(text[place:start])
        place = end + 2
    return "".join([*pieces, text[place:]])
