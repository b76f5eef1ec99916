"""Names in braces, filled in with values: `{port}`, `{tides.url}`, `{token}`.

Always in a single pass, so that what was filled in is text: a value that holds braces (it may come from a server) never
takes the value of another name.
"""

from __future__ import annotations

import re
import shlex
from collections.abc import Mapping

from dokimon.core.expressions import expression

_NAME = expression(r"\{([^{}\n]+)\}")


def names_in(text: str) -> frozenset[str]:
    """Return the names in braces in a text."""
    return frozenset(_NAME.findall(text))


def filled(text: str, words: Mapping[str, str], missing: str | None = None) -> str:
    """Return the text with each known name in braces replaced by its value.

    An unknown name stays as it is, braces and all, or becomes `missing` where that is given.
    """
    if "{" not in text:
        return text
    return _NAME.sub(lambda name: words.get(name[1], name[0] if missing is None else missing), text)


def filled_for_shell(command: str, words: Mapping[str, str]) -> str:
    """Return a command line for a POSIX shell with the names in braces filled in, each value as one word or part of one.

    Where the name is inside quotes, the value is escaped for those quotes (POSIX.1-2017, Shell §2.2).
    """
    if "{" not in command:
        return command
    pieces: list[str] = []
    quote, last = "", 0
    for name in _NAME.finditer(command):
        if name[1] not in words:
            continue
        between = command[last : name.start()]
        quote = _quote_after(between, quote)
        pieces += [between, _quoted(words[name[1]], quote)]
        last = name.end()
    return "".join([*pieces, command[last:]])


def _quote_after(text: str, quote: str) -> str:
    """Return the kind of quote that is open behind `text`, when `quote` is open before it."""
    escaped = False
    for character in text:
        if escaped:
            escaped = False
        elif character == "\\" and quote != "'":
            escaped = True
        elif quote:
            quote = "" if character == quote else quote
        elif character in "'\"":
            quote = character
    return quote


def _quoted(value: str, quote: str) -> str:
    if quote == "'":
        return value.replace("'", "'\\''")
    if quote == '"':
        return re.sub(r'([\\$`"])', r"\\\1", value)
    return shlex.quote(value)
