"""What a page shows: title, text, elements, the error pages of frameworks, and whether the parts it names load."""

from __future__ import annotations

import re
from collections.abc import Mapping

import msgspec

from dokimon.core.checks.assets import check_assets
from dokimon.core.checks.fetching import Response
from dokimon.core.checks.html import Page, SelectorFault, read, select
from dokimon.core.checks.measuring import Measure, judge_value
from dokimon.core.checks.spec import Pattern, Text, Texts, texts
from dokimon.core.checks.texts import find, in_words
from dokimon.core.checks.told_errors import broken_json, told_error
from dokimon.core.patterns import PatternFault
from dokimon.core.report.model import Check, CheckVerdict
from dokimon.core.text import clean, counted


class Contents(msgspec.Struct, frozen=True, kw_only=True):
    """What is wanted of an answer's contents; `graded` for a default check, which looks for what a person would notice."""

    title: str | None = None
    shows: Texts = []
    hides: Texts = []
    elements: dict[str, int | str | Measure] = {}
    assets: bool | None = None
    graded: bool = True


def check(origin: str, answer: Response, wanted: Contents, seconds: float) -> list[Check]:
    """Compare what came from `origin` with what is wanted; each part of the page is loaded within `seconds`."""
    explicit = bool(wanted.title is not None or texts(wanted.shows) or texts(wanted.hides) or wanted.elements)
    if answer.is_page:
        return _check_whole_page(origin, answer, wanted, seconds, explicit)
    checks: list[Check] = []
    if explicit:
        checks += _check_page(wanted, Page(None, answer.text, 0), answer, explicit)
    elif wanted.graded and (answer.status or 0) < 400:
        checks += _check_words(answer)
    if wanted.assets:
        seen = f"{answer.type or 'no type'}, no page"
        checks.append(Check(name="parts", verdict="failed", expected="a page that names some", seen=clean(seen)))
    return checks


def _check_whole_page(origin: str, answer: Response, wanted: Contents, seconds: float, explicit: bool) -> list[Check]:
    success = 200 <= (answer.status or 0) < 300 and answer.status != _NO_CONTENT
    if not success and not explicit:
        error = _error_page(answer, read(answer.text)) if (answer.status or 0) >= 500 else None
        return [error] if error else []  # it says more than the status alone
    page = read(answer.text)
    error = _error_page(answer, page) if wanted.graded else None
    checks = [error] if error else []
    checks += _check_page(wanted, page, answer, explicit)
    if wanted.assets or (wanted.assets is None and success and not error):
        checks += check_assets(origin, answer, seconds, strict=bool(wanted.assets))
    return checks


_NO_CONTENT = 204


def _check_words(answer: Response) -> list[Check]:
    """Return the failure that an answer which is no page tells of itself, whatever its status; or JSON that is none."""
    if wrong := broken_json(answer):
        seen = clean(f"it says that it is {answer.type}, and is not: {wrong}")
        return [Check(name="JSON", verdict="failed", expected="JSON that can be read", seen=seen)]
    told = told_error(answer)
    if told is None:
        return []
    seen = clean(f"it says so itself: {told}")
    return [Check(name="no error told", verdict="failed", expected="an answer that tells of no failure", seen=seen)]


def _error_page(answer: Response, page: Page) -> Check | None:
    """Return the failure that a framework's own error page is, whatever its status."""
    from dokimon.core.checks.error_pages import recognised

    found = recognised(answer.text, page)
    if found is None:
        return None
    return Check(
        name="no error page",
        verdict="failed",
        expected="what the project means to show",
        seen=clean(f"{found.name}: “{found.line}”"),
    )


def _check_page(wanted: Contents, page: Page, answer: Response, explicit: bool) -> list[Check]:
    """Compare a page with what is wanted; a default check reports what a person would read there."""
    checks = []
    if wanted.title is not None:
        right = wanted.title in (page.title or "")
        seen = f"“{page.title}”" if page.title else "no title"
        checks.append(
            Check(
                name="title",
                verdict="passed" if right else "failed",
                expected=clean(f"holds “{wanted.title}”"),
                seen=clean(seen),
            )
        )
    checks += check_texts(wanted.shows, wanted.hides, answer.text, page.words)
    checks += check_elements(wanted.elements, answer.text)
    if not explicit:
        count = len(page.words.split())
        seen = (f"“{page.title}”" if page.title else "no title") + f", {counted(count, 'word')}"
        if not count and page.scripts:
            seen += ": an empty shell that its scripts fill"
        verdict: CheckVerdict = "passed" if page.title or count or page.scripts else "unsure"
        checks.append(
            Check(
                name="page", verdict=verdict, expected="a title, some text, or scripts that make it", seen=clean(seen)
            )
        )
    return checks


def check_texts(shows: Texts, hides: Texts, markup: str, words: str, where: str = "in what was served") -> list[Check]:
    """Look for texts and patterns in a page's markup and in the words that are read there."""
    checks = []
    for text in texts(shows):
        found = _found(text, markup, words)
        seen = (
            f"{found} is there"
            if isinstance(found, str)
            else f"{counted(len(words.split()), 'word')} without it: “{words[:120]}”"
        )
        checks.append(_as_check("text", text, where, found, bool(found), seen))
    for text in texts(hides):
        found = _found(text, markup, words)
        seen = f"{found} is there" if isinstance(found, str) else f"{in_words(text)} is not there"
        checks.append(_as_check("no text", text, "nowhere", found, not found, seen))
    return checks


def _found(text: Text, markup: str, words: str) -> str | PatternFault | None:
    try:
        if isinstance(text, Pattern):
            found = find(text, words) or find(text, markup)
            return f"“{found}”" if found else None
    except PatternFault as fault:
        return fault
    return f"“{text}”" if text in markup or _folded(text) in _folded(words) else None


def _as_check(
    name: str, text: Text, where: str, found: str | PatternFault | None, holds: bool, seen: str
) -> Check:  # fmt: skip
    expected = clean(f"{in_words(text)} {where}")
    if isinstance(found, PatternFault):
        return Check(name=name, verdict="unsure", expected=expected, seen=clean(str(found)))
    return Check(name=name, verdict="passed" if holds else "failed", expected=expected, seen=clean(seen))


def _folded(text: str) -> str:
    return re.sub(r"\s+", " ", text).strip().casefold()


def check_elements(wanted: dict[str, int | str | Measure], markup: str) -> list[Check]:
    """Compare the elements of a page that CSS selectors mean with what is wanted of them."""
    seen: dict[str, tuple[int, str] | SelectorFault] = {}
    for selector in wanted:
        try:
            found = select(markup, selector)
        except SelectorFault as fault:
            seen[selector] = fault
            continue
        seen[selector] = len(found), found[0].get_text(" ", strip=True) if found else ""
    return check_elements_seen(wanted, seen)


def check_elements_seen(
    wanted: dict[str, int | str | Measure], seen: Mapping[str, tuple[int, str] | SelectorFault]
) -> list[Check]:
    """The same for elements already found: of each how many there are, and the text of the first.

    A number says how many there must be, a text what the first one holds; a measure is compared with its text, or
    against the count where only a number is wanted.
    """
    checks = []
    for selector, expected in wanted.items():
        name, found = clean(f"element {selector}", 120), seen[selector]
        if isinstance(found, SelectorFault):
            checks.append(Check(name=name, verdict="unsure", expected="an element", seen=clean(str(found))))
            continue
        count, text = found
        how_many = counted(count, "element")
        held = f"“{text}”" if count else "no such element"
        if isinstance(expected, int):
            right = count == expected
            checks.append(
                Check(name=name, verdict="passed" if right else "failed", expected=f"{expected} of them", seen=how_many)
            )
        elif isinstance(expected, str):
            right = bool(count) and _folded(expected) in _folded(text)
            checks.append(
                Check(
                    name=name,
                    verdict="passed" if right else "failed",
                    expected=clean(f"holds “{expected}”"),
                    seen=clean(held),
                )
            )
        else:
            by_count = expected.number is not None and expected == Measure(number=expected.number)
            judged = judge_value(count if by_count else text, expected)
            verdict = judged.verdict if count or by_count else "failed"
            checks.append(
                Check(
                    name=name,
                    verdict=verdict,
                    expected=clean(judged.expected),
                    seen=clean(how_many if by_count else held),
                )
            )
    return checks
