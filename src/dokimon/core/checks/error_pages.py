"""The error pages that frameworks and servers show in place of what was asked for, often with status 200: data."""

from __future__ import annotations

import re
from functools import cache
from pathlib import Path

import msgspec

from dokimon.core.checks.html import Page

_DATA = Path(__file__).with_name("error_pages.toml")


class ErrorPage(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """An error page: its name, patterns of which each must be found (in the markup, or in the words that are read).

    `samples` are pieces of such pages, `others` pieces of pages that are none.
    """

    name: str
    markup: list[str] = []
    words: list[str] = []
    samples: list[str] = []
    others: list[str] = []


class Recognised(msgspec.Struct, frozen=True):
    """What was recognised: whose page it is, and the words that show it."""

    name: str
    line: str


@cache
def error_pages() -> tuple[ErrorPage, ...]:
    """Return all error pages that are known, in the order of the data."""
    import tomllib

    data = tomllib.loads(_DATA.read_text("utf-8"))
    return tuple(msgspec.convert(data["page"], list[ErrorPage]))


_BEGINNING = 200_000
"""Characters that are looked at: an error page says early what it is."""


def recognised(markup: str, page: Page) -> Recognised | None:
    """Return which error page this is, or None."""
    beginning, words = markup[:_BEGINNING], page.words[:_BEGINNING]
    for each in error_pages():
        found = [re.search(pattern, beginning) for pattern in each.markup]
        found += [re.search(pattern, words) for pattern in each.words]
        if all(found):
            shown = next((match[0] for match in reversed(found) if match and each.words), "") or page.title or each.name
            return Recognised(each.name, " ".join(shown.split())[:160])
    return None
