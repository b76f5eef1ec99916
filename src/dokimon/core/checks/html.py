"""Pages as they were served: their title, the text that a person would read, elements by CSS selector."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from functools import lru_cache
from typing import TYPE_CHECKING, NamedTuple

from dokimon.core.faults import Fault

if TYPE_CHECKING:
    from bs4 import BeautifulSoup, Tag


class Page(NamedTuple):
    """What is on a page: its title, the words to be read, how many scripts there are, and whether it has code of its own.

    That is a script in the page, or one from the server of the page.
    """

    title: str | None
    words: str
    scripts: int
    has_own_code: bool = False


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
    scripts = soup.find_all("script")
    has_own_code = any(_is_own_code(each) for each in scripts)
    for hidden in soup(["script", "style", "template", "noscript", "title"]):
        hidden.decompose()
    return Page(title or None, soup.get_text(" ", strip=True), len(scripts), has_own_code)


_CODE = re.compile(r"(?i)(?:module|(?:text|application)/(?:x-)?(?:java|ecma)script)?")
_ELSEWHERE = re.compile(r"(?i)[a-z][a-z0-9+.-]*:|//")


def _is_own_code(script: Tag) -> bool:
    """Whether a script is code (HTML, §4.12.1, "The script element"), and no other server's."""
    if not _CODE.fullmatch(str(script.get("type") or "").partition(";")[0].strip()):
        return False
    source = script.get("src")
    return not _ELSEWHERE.match(str(source).strip()) if source else bool(script.get_text(strip=True))


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
