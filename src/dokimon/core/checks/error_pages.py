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

    A `bare` one has nothing else: no layout, no style, and hardly a word beside those that are searched for. `samples` are
    pieces of such pages, `others` pieces of pages that are none.
    """

    name: str
    markup: list[str] = []
    words: list[str] = []
    bare: bool = False
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
        if all(found) and not (each.bare and _says_more(beginning, words, found)):
            shown = next((match[0] for match in reversed(found) if match and each.words), "") or page.title or each.name
            return Recognised(each.name, " ".join(shown.split())[:160])
    return None


_LAYOUT = re.compile(r"(?i)<(?:nav|header|footer|main|article|section|aside|form|img|link|style|script)\b")
_FEW_WORDS = 25
"""An error in place of a page is short, or it is all there is."""


def _says_more(markup: str, words: str, found: list[re.Match[str] | None]) -> bool:
    """Whether a page has a layout of its own, or says much beside what was found."""
    if _LAYOUT.search(markup):
        return True
    matched = sum(len(match[0]) for match in found if match)
    return len(words.split()) > _FEW_WORDS and matched < len(words) / 3
