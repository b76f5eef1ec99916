"""Opens a page in a headless browser, in a process of its own: takes a wish, writes what it saw.

`python -m dokimon.core.checks.browser WISH` takes one object of JSON: `browser` (the program), `origin`, `path`, `seconds`,
`texts` and `selectors` to wait for, `picture` (a file for a PNG). With `change`, a text that only a change brings, it says
`{"ready": true}` once the page is open, and then waits for that text to appear, loading the page again now and then. It
writes one line of JSON.
"""

from __future__ import annotations

import contextlib
import json
import os
import sys
import time
from importlib import import_module
from typing import Any
from urllib.parse import urlsplit

_SIZE = {"width": 1280, "height": 800}
_MOST_WORDS = 20_000
_MOST_TOLD = 50
_LOAD_AGAIN_AFTER = 2.0
"""Seconds after which a page that did not change by itself is loaded again."""

_LOAD_SECONDS = 20.0
"""A development server may compile for a while before the page is loaded; what is waited for comes after that."""

# A browser that was just installed looks for updates and news of its maker; a check does not wait for these.
_FLAGS = [
    "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--disable-default-apps", "--mute-audio",
]  # fmt: skip


def see(wish: dict[str, Any]) -> dict[str, Any]:
    """Open the page and return what is on it, what its console said, which requests failed, and what is on other hosts."""
    # Not installed everywhere: what it is made of is only known here.
    playwright: Any = import_module("playwright.sync_api")
    errors: list[str] = []
    failed: dict[str, str] = {}
    elsewhere: dict[str, None] = {}
    home = urlsplit(wish["origin"])

    def is_own(address: str) -> bool:
        asked = urlsplit(address)
        return asked.scheme in ("data", "blob", "about") or (
            asked.port == home.port and asked.hostname == home.hostname
        )

    def route(request: Any) -> None:
        if is_own(request.request.url):
            request.continue_()
        else:
            elsewhere[request.request.url] = None
            request.abort()

    def said(line: Any) -> None:
        # The browser's own message about a failed request is reported with that request.
        if line.type == "error" and not line.text.startswith("Failed to load resource"):
            errors.append(line.text)

    def missed(address: str, why: str, fine: bool = False) -> None:
        if not fine and is_own(address):
            failed.setdefault(address, f"{address}: {why}")

    with playwright.sync_playwright() as driver:
        # As root there is no sandbox to be had; only the run's own pages are opened.
        flags = _FLAGS + (["--no-sandbox"] if os.geteuid() == 0 else [])
        browser = driver.chromium.launch(executable_path=wish["browser"], args=flags, headless=True)
        try:
            page = browser.new_context(viewport=_SIZE, ignore_https_errors=True).new_page()
            page.route("**/*", route)
            page.on("pageerror", lambda error: errors.append(str(error)))
            page.on("console", said)
            page.on("requestfailed", lambda asked: missed(asked.url, asked.failure))
            page.on("response", lambda answer: missed(answer.url, f"status {answer.status}", answer.status < 400))
            opened = page.goto(wish["origin"] + wish["path"], wait_until="load", timeout=_LOAD_SECONDS * 1000)
            deadline = time.monotonic() + wish["seconds"]
            if wish.get("change"):
                return _changes(page, wish, opened.status if opened else None)
            while True:
                words = page.evaluate("document.body ? document.body.innerText : ''")[:_MOST_WORDS]
                missing = [text for text in wish["texts"] if text.casefold() not in " ".join(words.split()).casefold()]
                absent = [each for each in wish["selectors"] if not page.locator(each).count()]
                if (not missing and not absent and words.strip()) or time.monotonic() > deadline:
                    break
                page.wait_for_timeout(50)
            found = {each: _element(page, each) for each in wish["selectors"]}
            if wish.get("picture"):
                page.screenshot(path=wish["picture"])
            return {
                "status": opened.status if opened else None, "title": page.title(), "words": words,
                "elements": found, "errors": errors[:_MOST_TOLD], "failed": list(failed.values())[:_MOST_TOLD],
                "elsewhere": list(elsewhere)[:_MOST_TOLD],
            }  # fmt: skip
        except playwright.Error as wrong:
            return {"fault": str(wrong).splitlines()[0]}
        finally:
            browser.close()


def _changes(page: Any, wish: dict[str, Any], status: int | None) -> dict[str, Any]:
    """Say whether the text is there already; if not, wait for it, and say after how many seconds it appeared."""

    error = import_module("playwright.sync_api").Error

    def shown() -> bool:
        try:
            return wish["change"] in page.evaluate("document.body ? document.body.innerText : ''")
        except error:  # the page is just being loaded again
            return False

    if shown():
        return {"before": True, "status": status}
    print(json.dumps({"ready": True}), flush=True)
    began = loaded = time.monotonic()
    while time.monotonic() - began < wish["seconds"]:
        if shown():
            return {"after": round(time.monotonic() - began, 3)}
        if time.monotonic() - loaded > _LOAD_AGAIN_AFTER:
            with contextlib.suppress(error):
                page.reload(wait_until="load", timeout=_LOAD_SECONDS * 1000)
            loaded = time.monotonic()
        page.wait_for_timeout(20)
    return {"after": None}


def _element(page: Any, selector: str) -> dict[str, Any]:
    located = page.locator(selector)
    count = located.count()
    return {"count": count, "text": located.first.inner_text() if count else ""}


def main() -> None:
    """Read the wish, look, and write what was seen."""
    wish = json.loads(sys.argv[1])
    try:
        seen = see(wish)
    except ModuleNotFoundError:
        seen = {"absent": "playwright"}
    except Exception as wrong:  # whatever a driver or a browser does, the check hears of it in words
        seen = {"fault": str(wrong).splitlines()[0] if str(wrong) else type(wrong).__name__}
    print(json.dumps(seen), flush=True)


if __name__ == "__main__":
    main()
