"""Regular expressions that people write in `dokimon.toml`: compiled and searched by one engine, in bounded time.

The engine is `regex`, which has a time limit: a pattern that backtracks without end becomes a fault.
"""

from __future__ import annotations

import re
import warnings
from functools import lru_cache
from typing import Any

from dokimon.core.expressions import expression
from dokimon.core.faults import Fault

_BRACE = expression(r"\{(?![\d,])")

SECONDS = 1.0
"""A search that takes longer backtracks without end."""


class PatternFault(Fault):
    """The pattern cannot be used, or its search took too long."""


def check_pattern(pattern: str) -> None:
    """Raise `PatternFault` unless `compiled_pattern` would compile this.

    Loading `regex` takes as long as a tenth of `verify`. What `re` accepts `regex` does too, but for braces that mean
    "nearly" to it (`{e<=1}`): only where there are such braces, or where `re` refuses, is it asked (see the test).
    """
    if not _BRACE.search(pattern):
        try:
            with warnings.catch_warnings():
                warnings.simplefilter("ignore")  # what may mean something else one day is no fault of today
                re.compile(pattern)
        except (re.error, RecursionError, OverflowError):
            pass
        else:
            return
    compiled_pattern(pattern)


@lru_cache(maxsize=256)
def compiled_pattern(pattern: str) -> Any:
    """Return the pattern compiled; `^` and `$` match at the ends of lines. Raises `PatternFault`."""
    import regex

    try:
        return regex.compile(pattern, flags=regex.MULTILINE)
    except regex.error as wrong:
        raise PatternFault(f"{pattern!r} is not a regular expression: {wrong}") from None
    except (RecursionError, OverflowError):
        raise PatternFault("the regular expression is nested too deeply") from None


def search(pattern: str, text: str, seconds: float = SECONDS) -> tuple[str, str] | None:
    """Return the first match in `text` and its first group (the match itself where it has none), or None.

    Raises `PatternFault`, also when the search takes longer than `seconds`.
    """
    try:
        found = compiled_pattern(pattern).search(text, timeout=seconds)
    except TimeoutError:
        raise PatternFault(f"searching for {pattern!r} took longer than {seconds:g} s; simplify the pattern") from None
    if found is None:
        return None
    group = found[1] if found.re.groups and found[1] is not None else found[0]
    return str(found[0]), str(group)
