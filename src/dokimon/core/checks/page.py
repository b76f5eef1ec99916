"""A page that a server serves: its status, title and text, and whether the scripts and styles it names load."""

from __future__ import annotations

import re

from dokimon.core.checks.assets import check_assets
from dokimon.core.checks.fetching import Answer, fetch
from dokimon.core.planning.plan import PageCheck
from dokimon.core.report.model import Check, CheckVerdict
from dokimon.core.text import clean

PAGE_SECONDS = 60.0
"""A development server may compile for a while at the first request: that is time, not failure."""


def check_page(origin: str, wanted: PageCheck) -> tuple[Check, ...]:
    """Ask the run at `origin` for a page and hold it against what is wanted; what is not named is graded as usual."""
    answer = fetch(origin, wanted.path, seconds=PAGE_SECONDS)
    name = f"GET {wanted.path}"
    if answer.status is None:
        expected = _statuses(wanted.status) if wanted.status else "an answer"
        return (Check(name, "failed", expected, clean(answer.fault or "nothing"), answer.seconds),)
    checks = [_check_status(name, wanted, answer)]
    explicit = bool(wanted.title or wanted.shows)
    if _is_page(answer) and (answer.status < 400 or explicit):
        checks += _check_contents(wanted, answer)
        if wanted.assets or (wanted.assets is None and answer.status < 400):
            checks += check_assets(origin, answer, PAGE_SECONDS)
    elif explicit:
        checks += _check_contents(wanted, answer)
    if wanted.assets and not _is_page(answer):
        checks.append(
            Check(
                "scripts and styles",
                "failed",
                "a page that names some",
                f"{answer.type or 'no type'}, no page",
            )
        )
    return tuple(checks)


def _is_page(answer: Answer) -> bool:
    return answer.type in ("text/html", "application/xhtml+xml") or (
        not answer.type and answer.body.lstrip()[:15].lower().startswith((b"<!doctype html", b"<html"))
    )


def _statuses(statuses: tuple[int, ...]) -> str:
    return "status " + " or ".join(str(status) for status in statuses)


def _check_status(name: str, wanted: PageCheck, answer: Answer) -> Check:
    assert answer.status is not None
    size = f"{len(answer.body)} bytes" if answer.complete else f"more than {len(answer.body)} bytes"
    seen = f"{answer.status}, {answer.type or 'no type'}, {size}"
    if answer.path != wanted.path:
        seen += f", at {answer.path}"
    if answer.elsewhere:
        seen += f", sends on to {answer.elsewhere}"
    if wanted.status:
        verdict: CheckVerdict = "passed" if answer.status in wanted.status else "failed"
        return Check(name, verdict, _statuses(wanted.status), clean(seen), answer.seconds)
    verdict, remark = _grade(answer)
    return Check(name, verdict, "a success (status 200 to 299)", clean(seen + remark), answer.seconds)


def _grade(answer: Answer) -> tuple[CheckVerdict, str]:
    """Grade an answer nobody described: a success passes, the run's own error fails, what is between is unsure."""
    status = answer.status or 0
    if 200 <= status < 300:
        return ("passed", "") if answer.body.strip() else ("unsure", ": it answers, but with nothing")
    if 300 <= status < 400:
        return "unsure", ": it answers, but only sends on to another place"
    if status in (401, 403):
        return "unsure", ": it answers, but lets nobody in without signing in"
    if status == 404:
        return "unsure", ": it answers, but nothing is routed here"
    if status < 500:
        return "unsure", ": it answers, but refuses the request"
    return "failed", ": the server itself says that it failed"


def _check_contents(wanted: PageCheck, answer: Answer) -> list[Check]:
    """Hold title and text against what is wanted; without a word on either, tell what a person would read there."""
    title, words, scripts = _read_page(answer)
    checks = []
    if wanted.title is not None:
        right = wanted.title in (title or "")
        seen = f"“{title}”" if title else "no title"
        checks.append(Check("title", "passed" if right else "failed", f"holds “{wanted.title}”", clean(seen)))
    for text in wanted.shows:
        right = text in answer.text or _folded(text) in _folded(words)
        seen = f"“{text}” is there" if right else f"{len(words.split())} words without it: “{words[:120]}”"
        checks.append(Check("text", "passed" if right else "failed", f"“{text}” in what was served", clean(seen)))
    if wanted.title is None and not wanted.shows:
        count = len(words.split())
        seen = (f"“{title}”" if title else "no title") + f", {count} word{'s' if count != 1 else ''}"
        if not count and scripts:
            seen += ": an empty shell that its scripts fill"
        verdict: CheckVerdict = "passed" if title or count or scripts else "unsure"
        checks.append(Check("page", verdict, "a title, some text, or scripts that make it", clean(seen)))
    return checks


def _folded(text: str) -> str:
    return re.sub(r"\s+", " ", text).strip().casefold()


def _read_page(answer: Answer) -> tuple[str | None, str, int]:
    """Return the title, the text that a person would read, and how many scripts there are."""
    from bs4 import BeautifulSoup

    soup = BeautifulSoup(answer.body, "html.parser")
    title = soup.title.get_text(" ", strip=True) if soup.title else None
    scripts = len(soup.find_all("script"))
    for hidden in soup(["script", "style", "template", "noscript", "title"]):
        hidden.decompose()
    return title or None, soup.get_text(" ", strip=True), scripts
