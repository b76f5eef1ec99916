"""Pages as they were served: their title, the text that a person would read, elements by CSS selector."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from functools import lru_cache
from typing import TYPE_CHECKING, NamedTuple

from dokimon.core.faults import Fault

if TYPE_CHECKING:
    from bs4 import BeautifulSoup, Tag


class Page(NamedTuple):
    """What is on a page: its title, the words to be read, and how many scripts there are."""

    title: str | None
    words: str
    scripts: int


MOST_TAGS = 50_000
"""Tags of a page that are looked at: more than a page for people has, and a second's work."""


class SelectorFault(Fault):
    """The text is not a CSS selector."""


@lru_cache(maxsize=8)
def parsed(markup: str) -> BeautifulSoup:
    """Return the tree of a page, to be read only: several checks look into the same one."""
    return _tree(markup)


def _tree(markup: str) -> BeautifulSoup:
    """Return the tree of the first `MOST_TAGS` tags. The parser of lxml takes time in proportion, whatever the markup."""
    from bs4 import BeautifulSoup

    end = -1
    for _ in range(MOST_TAGS):
        end = markup.find("<", end + 1)
        if end < 0:
            return BeautifulSoup(markup, "lxml")
    return BeautifulSoup(markup[:end], "lxml")


@lru_cache(maxsize=8)
def read(markup: str) -> Page:
    """Return what is on a page; whatever is wrong with its markup."""
    soup = _tree(markup)
    title = soup.title.get_text(" ", strip=True) if soup.title else None
    scripts = len(soup.find_all("script"))
    for hidden in soup(["script", "style", "template", "noscript", "title"]):
        hidden.decompose()
    return Page(title or None, soup.get_text(" ", strip=True), scripts)


def select(markup: str, selector: str) -> list[Tag]:
    """Return the elements that a CSS selector (W3C Selectors, as soupsieve reads them) means; raises `SelectorFault`."""
    check_selector(selector)
    return list(parsed(markup).select(selector))


def selector_problems(selectors: Iterable[str]) -> Iterator[str]:
    """Yield what is wrong with each text that is not a CSS selector."""
    for selector in selectors:
        try:
            check_selector(selector)
        except SelectorFault as fault:
            yield fault.reason


def check_selector(selector: str) -> None:
    """Raise `SelectorFault` unless the text is a selector."""
    import soupsieve

    try:
        soupsieve.compile(selector)
    except (soupsieve.SelectorSyntaxError, ValueError, NotImplementedError) as wrong:
        raise SelectorFault(f'"{selector}" is not a CSS selector: {str(wrong).splitlines()[0]}') from None
