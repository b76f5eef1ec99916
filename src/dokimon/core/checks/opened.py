"""A page that only its scripts fill, opened in the browser that is installed: is there anything to be seen?"""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from dokimon.core.checks.context import CheckContext
from dokimon.core.checks.html import read
from dokimon.core.checks.rendered import find_browser
from dokimon.core.checks.scratch import scratch
from dokimon.core.report.model import Check, CheckVerdict
from dokimon.core.text import clean, counted

_SECONDS = 10.0
_START_SECONDS = 25.0
_FEW_WORDS = 10
"""A page with more words than these shows something before its scripts run."""

_MOST_TOLD = 3
NO_BROWSER = "not rendered: no browser here"
_LEFT_OUT = "not rendered: --no-browser"
_STACK = re.compile(r"(?m)^Traceback(?: \(most recent call last\))?:")
_UNDEFINED = re.compile(r"\bis not defined\b|\bundefined\b|\bimport\b")
_HARMLESS = ("ydrat", "ResizeObserver loop", "[HMR]", "WebSocket")
"""In what a page throws, words of what does not keep it from working."""


def is_shell(markup: str) -> bool:
    """Whether next to nothing of a page can be read before its scripts run, or a part of it lives only in them.

    A component of Blazor that is written into the page before (learn.microsoft.com, "Prerender components") works once
    its circuit has begun, or its code has been loaded.
    """
    page = read(markup)
    return bool(page.scripts) and (len(page.words.split()) <= _FEW_WORDS or _COMPONENT in markup)


_COMPONENT = '<!--Blazor:{"type":"'
_COMPONENT_SECONDS = 4.0
"""In which a component begins to work, or fails to."""


def not_rendered(context: CheckContext) -> str | None:
    """Return why a page is not rendered, in words; None where it can be."""
    if not context.may_render:
        return _LEFT_OUT
    return None if find_browser(context.environment) else NO_BROWSER


def check_opened(context: CheckContext, path: str, markup: str = "") -> list[Check]:
    """Open a page and return what was seen: nothing at all, an error of its scripts, or what the development server says.

    Where its `markup` has a component that begins to work only later, that is waited for.
    """
    browser = find_browser(context.environment)
    if browser is None or context.origin is None:
        return []
    from dokimon.core.checks.helper import HelperFault, ask

    with scratch() as folder:
        wish = {"browser": browser, "origin": _as_typed(context.origin), "path": path, "seconds": _SECONDS}
        wish["profile"] = str(Path(folder) / "profile")
        wish["at_least"] = _COMPONENT_SECONDS if _COMPONENT in markup else 0.0
        try:
            seen = ask("devtools", wish, context, _SECONDS + _START_SECONDS, TMPDIR=str(folder))
        except HelperFault as fault:
            seen = {"fault": str(fault)}
    if "fault" in seen:  # that a browser does not work here says nothing of the page
        told = clean(f"not rendered: {seen['fault']}")
        return [Check(name="rendered", verdict="skipped", expected="something to be seen", seen=told)]
    return [judged(seen)]


def _as_typed(origin: str) -> str:
    """Return an origin as a person would type it: some servers answer only to their name."""
    return origin.replace("//127.0.0.1:", "//localhost:").replace("//[::1]:", "//localhost:")


def judged(seen: dict[str, Any]) -> Check:
    """Return the check of what was seen of a page."""
    words = " ".join(seen.get("words", "").split())
    errors = [each for each in seen["errors"] if not any(word in each for word in _HARMLESS)]
    failed, overlays = seen["failed"], seen.get("overlays", [])
    scripts = seen.get("scripts_elsewhere", [])
    is_blank = not words and not seen.get("drawn")
    verdict: CheckVerdict = "passed"
    told = f"{counted(len(words.split()), 'word')} after its scripts ran"
    if overlays:
        verdict, told = "failed", f"an error in place of the page: “{_first(overlays[0])}”"
    elif scripts and (is_blank or seen.get("loading") or (errors and _UNDEFINED.search(errors[0]))):
        verdict = "skipped"  # what it shows needs what is not let in: nothing can be said of it
        told = f"not rendered: {counted(len(scripts), 'script')} on {urlsplit(scripts[0]).hostname}"
    elif seen.get("busy"):
        verdict, told = "unsure", f"its scripts were still at work after {seen['seconds']:.0f} s: nothing could be seen"
    elif stack := _STACK.search(seen.get("words", "")):
        verdict, told = "failed", f"a stack in the page: “{_first(seen['words'][max(stack.start() - 200, 0) :])}”"
    elif is_blank:
        verdict, told = "failed", f"a blank page{_and_error(errors, failed)}"
    elif errors:
        verdict, told = "failed", f"{told}; its scripts threw “{_first(errors[0])}”"
    elif seen.get("loading"):
        verdict, told = (
            "unsure",
            f"still “{clean(words, 40)}” after {seen['seconds']:.0f} s{_and_error(errors, failed)}",
        )
    elif failed:
        more = f"; {len(failed) - _MOST_TOLD} more" if failed[_MOST_TOLD:] else ""
        verdict, told = "unsure", f"{told}; failed: {'; '.join(failed[:_MOST_TOLD])}{more}"
    if seen["elsewhere"]:
        told += f"; {counted(len(seen['elsewhere']), 'request')} to elsewhere not let out"
    expected = "something to be seen, no error, each request answered"
    return Check(name="rendered", verdict=verdict, expected=expected, seen=clean(told), seconds=seen["seconds"])


def _first(text: str) -> str:
    """The beginning of an error, without its stack."""
    lines = [line.strip() for line in text.splitlines() if line.strip() and not line.strip().startswith("at ")]
    return clean(" ".join(lines[:3]), 200)


def _and_error(errors: list[str], failed: list[str]) -> str:
    if errors:
        return f": its scripts threw “{_first(errors[0])}”"
    return f": {clean(failed[0], 160)}" if failed else ""
