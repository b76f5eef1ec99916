"""Opens a page in a Chromium-like browser, in a process of its own: takes a wish, writes what a person would have seen.

`python -m dokimon.core.checks.devtools WISH` takes one object of JSON: `browser` (the program), `origin`, `path`, `seconds`,
`profile` (a folder that is thrown away), and, where somebody asks for more, `texts` and `selectors` to wait for and a file
for a `picture`. It writes one line of JSON. The browser is spoken to by the Chrome DevTools
Protocol over two pipes (`--remote-debugging-pipe`): no port is opened, and nothing else is installed.
"""

from __future__ import annotations

import base64
import contextlib
import json
import os
import select
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

_QUIET_SECONDS = 0.4
"""Of no request and no change, after which a page that shows something is done."""

_ERROR_SECONDS = 1.2
"""The same of a page that has thrown an error."""

_BUSY_SECONDS = 4.0
_LOOK_EVERY = 0.1
_MOST_TOLD = 50
_START_SECONDS = 20.0
_END_SECONDS = 2.0

_FLAGS = (
    "--headless=new", "--remote-debugging-pipe", "--disable-gpu", "--disable-quic", "--no-first-run", "--mute-audio",
    "--disable-background-networking", "--disable-component-update", "--disable-sync", "--disable-default-apps",
    "--disable-extensions", "--disable-features=Translate,MediaRouter,OptimizationHints,DialMediaRouteProvider",
    "--no-default-browser-check", "--no-pings", "--block-new-web-contents", "--deny-permission-prompts",
    "--force-webrtc-ip-handling-policy=disable_non_proxied_udp", "--disable-dev-shm-usage", "--window-size=1280,800",
    "--ignore-certificate-errors", "--js-flags=--max-old-space-size=1024",
)  # fmt: skip

_LOOK = """(selectors => {
  const shown = e => { const r = e.getBoundingClientRect(); return r.width > 0 && r.height > 0 };
  const overlays = [...document.querySelectorAll('vite-error-overlay, nuxt-error-overlay, astro-error-overlay, '
    + 'parcel-error-overlay, nextjs-portal, iframe#webpack-dev-server-client-overlay, #rspack-dev-server-client-overlay, '
    + 'rsbuild-error-overlay, wmr-error-overlay, expo-error-overlay, #react-error-overlay')];
  const said = e => {
    const root = e.shadowRoot || (() => { try { return e.contentDocument } catch { return null } })() || e;
    if (e.localName === 'nextjs-portal' && !root.querySelector('[data-nextjs-dialog], [data-nextjs-error-overlay], '
      + '[data-nextjs-dialog-overlay]')) return '';
    const body = root.querySelector('.message-body, #webpack-dev-server-client-overlay-div, [data-nextjs-dialog-body], '
      + '.window') || root.body || root;
    const copy = body.cloneNode(true);
    copy.querySelectorAll('style, script').forEach(each => each.remove());
    return (copy.textContent || '').trim().replace(/\\n\\s*\\n/g, '\\n').slice(0, 2000);
  };
  const body = document.body;
  const roots = [document];  // what elements hold in shadow trees of their own is seen like the rest
  for (let i = 0; i < roots.length && roots.length < 500; i++)
    for (const e of roots[i].querySelectorAll('*')) if (e.shadowRoot) roots.push(e.shadowRoot);
  const inside = roots.slice(1).flatMap(each => [...each.children]).filter(e => !/^(style|script|link)$/.test(e.localName));
  return {
    words: body ? [body, ...inside].map(e => e.innerText || '').join(' ').slice(0, 20000) : '', title: document.title,
    overlays: overlays.map(said).filter(Boolean),
    drawn: roots.flatMap(each => [...each.querySelectorAll('canvas, svg, img, video, iframe, input, textarea, select, '
      + 'button')]).filter(shown).length,
    ready: document.readyState === 'complete', at: location.protocol,
    elements: Object.fromEntries(selectors.map(each => {
      const found = [...document.querySelectorAll(each)];
      return [each, { count: found.length, text: found.length ? found[0].innerText || '' : '' }];
    })),
  };
})(SELECTORS)"""


class _Browser:
    """A browser that was started: what it is told and what it tells, as objects of JSON that end with a NUL."""

    def __init__(self, program: str, profile: str) -> None:
        read, told = _high(os.pipe())
        said, write = _high(os.pipe())
        for mine, number in ((read, 3), (write, 4)):
            os.dup2(mine, number)
            os.set_inheritable(number, True)
        root = ["--no-sandbox"] if hasattr(os, "geteuid") and os.geteuid() == 0 else []
        command = [program, *_FLAGS, *root, f"--user-data-dir={profile}", "about:blank"]
        self._process = subprocess.Popen(
            command, pass_fds=(3, 4), stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        for each in (3, 4, read, write):
            os.close(each)
        self._told, self._said, self._rest, self._number = told, said, b"", 0
        self.events: list[dict[str, Any]] = []

    def tell(self, method: str, session: str | None = None, **values: Any) -> int:
        """Send a command without waiting for its result; return its number."""
        self._number += 1
        message = {
            "id": self._number,
            "method": method,
            "params": values,
            **({"sessionId": session} if session else {}),
        }
        os.write(self._told, json.dumps(message).encode() + b"\0")
        return self._number

    def ask(
        self, method: str, session: str | None = None, seconds: float = _START_SECONDS, **values: Any
    ) -> dict[str, Any]:
        """Send a command and return its result; events that come meanwhile are kept. Raises `OSError`, `TimeoutError`."""
        number = self.tell(method, session, **values)
        deadline = time.monotonic() + seconds
        while time.monotonic() < deadline:
            messages = list(self._read(deadline - time.monotonic()))
            self.events += [each for each in messages if "method" in each]
            answer = next((each for each in messages if each.get("id") == number), None)
            if answer is not None:
                result: dict[str, Any] = answer.get("result", {})
                return result
        raise TimeoutError(f"the browser did not answer {method}")

    def listen(self, seconds: float) -> list[dict[str, Any]]:
        """Return the events that have come, and those that come within a moment, results of commands among them."""
        kept, self.events = self.events, []
        return kept + list(self._read(0 if kept else seconds))

    def _read(self, seconds: float) -> Iterator[dict[str, Any]]:
        ready, _, _ = select.select([self._said], [], [], max(seconds, 0))
        if not ready:
            return
        data = os.read(self._said, 1 << 20)
        if not data:
            raise OSError("the browser ended")
        *whole, self._rest = (self._rest + data).split(b"\0")
        for message in whole:
            yield json.loads(message)

    def close(self) -> None:
        """End it, and wait for that: what of it is still there then is ended by who started this process."""
        with contextlib.suppress(OSError):
            self.tell("Browser.close")
        try:
            self._process.wait(_END_SECONDS)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()


def _high(pair: tuple[int, int]) -> tuple[int, int]:
    """Return the ends of a pipe under numbers that are none of those that the browser uses."""
    found = []
    for end in pair:
        spare = [end]
        while spare[-1] < 10:
            spare.append(os.dup(end))
        for each in spare[:-1]:
            os.close(each)
        found.append(spare[-1])
    return found[0], found[1]


class _Seen:
    """What was seen of a page so far: its errors, what failed, what was asked for elsewhere, what is still on its way."""

    def __init__(self, origin: str) -> None:
        self._home = urlsplit(origin)
        self.errors: list[str] = []
        self.console: list[str] = []
        self.failed: dict[str, str] = {}
        self.elsewhere: dict[str, str] = {}
        self.pending: dict[str, str] = {}
        self.changed = time.monotonic()
        self.status: int | None = None

    def is_own(self, address: str) -> bool:
        asked = urlsplit(address)
        own = (self._home.hostname, "localhost", "127.0.0.1")
        return asked.scheme in ("data", "blob", "about") or (asked.port == self._home.port and asked.hostname in own)

    def hear(self, browser: _Browser, session: str, event: dict[str, Any]) -> None:
        """Take in an event of the browser, and answer it where it waits for that."""
        method, told = event["method"], event.get("params", {})
        if method == "Fetch.requestPaused":
            self._let_out(browser, session, told)
        elif method == "Page.javascriptDialogOpening":
            browser.tell("Page.handleJavaScriptDialog", session, accept=False)
        elif method == "Runtime.exceptionThrown":
            self._threw(told["exceptionDetails"])
        elif method == "Runtime.consoleAPICalled" and told.get("type") == "error":
            words = (str(each.get("value", each.get("description", ""))) for each in told.get("args", ()))
            self.console = [*self.console, " ".join(words)[:1000]][:_MOST_TOLD]
        elif method == "Network.requestWillBeSent":
            if told.get("type") not in ("WebSocket", "EventSource", "Ping"):
                self.pending[told["requestId"]] = told["request"]["url"]
        elif method == "Network.responseReceived":
            self._came(told)
        elif method in ("Network.loadingFinished", "Network.loadingFailed"):
            address = self.pending.pop(told["requestId"], "")
            if method.endswith("Failed") and address and not told.get("canceled") and self.is_own(address):
                self.failed.setdefault(address, f"{told.get('type', 'request')} {address}: {told.get('errorText')}")
        elif method in ("Inspector.targetCrashed", "Target.targetCrashed"):
            raise OSError("the page crashed")
        else:
            return
        self.changed = time.monotonic()

    def _let_out(self, browser: _Browser, session: str, told: dict[str, Any]) -> None:
        """Let a request go on where it is to the run itself."""
        address = told["request"]["url"]
        if self.is_own(address):
            browser.tell("Fetch.continueRequest", session, requestId=told["requestId"])
        else:
            self.elsewhere[address] = told.get("resourceType", "")
            browser.tell("Fetch.failRequest", session, requestId=told["requestId"], errorReason="BlockedByClient")

    def _threw(self, details: dict[str, Any]) -> None:
        thrown = details.get("exception", {})
        text = str(thrown.get("description") or thrown.get("value") or details.get("text") or "an error")
        if len(self.errors) < _MOST_TOLD:
            self.errors.append(text[:1000])

    def _came(self, told: dict[str, Any]) -> None:
        answer, kind = told["response"], told.get("type", "")
        if kind == "Document" and self.status is None:
            self.status = answer["status"]
        is_asset = answer["url"].partition("?")[0].endswith(("favicon.ico", ".webmanifest", "manifest.json", ".map"))
        if (
            answer["status"] >= 400
            and kind not in ("Document", "Other")
            and self.is_own(answer["url"])
            and not is_asset
        ):
            self.failed.setdefault(answer["url"], f"{kind} {answer['url']}: status {answer['status']}")
        if kind == "EventSource":
            self.pending.pop(told["requestId"], None)


def see(wish: dict[str, Any]) -> dict[str, Any]:
    """Open the page, wait until it shows something and is quiet, or for as long as is wished; return what was seen."""
    browser = _Browser(wish["browser"], wish["profile"])
    try:
        target = browser.ask("Target.createTarget", url="about:blank")["targetId"]
        session = browser.ask("Target.attachToTarget", targetId=target, flatten=True)["sessionId"]
        browser.ask("Browser.setDownloadBehavior", behavior="deny")
        for domain in ("Page", "Runtime", "Network", "Inspector"):
            browser.ask(f"{domain}.enable", session)
        browser.ask("Fetch.enable", session, patterns=[{"urlPattern": "*"}])
        return _watch(browser, session, wish)
    finally:
        browser.close()


def _watch(browser: _Browser, session: str, wish: dict[str, Any]) -> dict[str, Any]:
    seen = _Seen(wish["origin"])
    begun = time.monotonic()
    browser.tell("Page.navigate", session, url=wish["origin"] + wish["path"])
    look = _LOOK.replace("SELECTORS", json.dumps(wish.get("selectors", [])))
    waiting, last, looked = 0, dict[str, Any](), begun
    while time.monotonic() - begun < wish["seconds"]:
        came = None
        for message in browser.listen(_LOOK_EVERY):
            if "method" in message:
                seen.hear(browser, session, message)
            elif message.get("id") == waiting:
                waiting, came = 0, message.get("result", {}).get("result", {}).get("value") or {}
        if came is not None and came.get("at") == "about:":  # not there yet
            looked, came = time.monotonic(), None
        if came is not None:
            seen.changed = time.monotonic() if last and came != last else seen.changed
            last, looked = came, time.monotonic()
            long_enough = time.monotonic() - begun >= wish.get("at_least", 0)
            if long_enough and _is_done(seen, last) and _has_all(wish, last):
                break
        if not waiting:
            time.sleep(max(0.0, looked + _LOOK_EVERY - time.monotonic()))
            waiting = browser.tell("Runtime.evaluate", session, expression=look, returnByValue=True)
    if waiting and time.monotonic() - looked > _BUSY_SECONDS:  # a page that works for ever does not answer
        last = {"busy": True}
    if wish.get("picture") and not last.get("busy"):
        _draw(browser, session, wish["picture"])
    return {
        "status": seen.status, **last, "errors": seen.errors, "console": seen.console,
        "failed": list(seen.failed.values())[:_MOST_TOLD], "elsewhere": list(seen.elsewhere)[:_MOST_TOLD],
        "scripts_elsewhere": [address for address, kind in seen.elsewhere.items() if kind == "Script"][:_MOST_TOLD],
        "loading": is_loading(last.get("words", "")), "seconds": round(time.monotonic() - begun, 3),
    }  # fmt: skip


def _is_done(seen: _Seen, page: dict[str, Any]) -> bool:
    """Whether nothing more is to be waited for: the page shows something, or an error, and is quiet."""
    quiet = time.monotonic() - seen.changed
    if not page.get("ready"):
        return False
    words = page.get("words", "")
    is_shown = bool(words.strip() or page.get("drawn")) and not is_loading(words)
    if page.get("overlays"):
        return True
    return (is_shown and not seen.pending and quiet >= _QUIET_SECONDS) or (
        bool(seen.errors) and quiet >= _ERROR_SECONDS
    )


def _has_all(wish: dict[str, Any], page: dict[str, Any]) -> bool:
    """Whether the texts and the elements that are waited for are there."""
    words = " ".join(page.get("words", "").split()).casefold()
    elements = page.get("elements", {})
    return all(text.casefold() in words for text in wish.get("texts", [])) and all(
        elements.get(each, {}).get("count") for each in wish.get("selectors", [])
    )


def _draw(browser: _Browser, session: str, file: str) -> None:
    """Write a picture of what is seen of the page."""
    data = browser.ask("Page.captureScreenshot", session, 5.0, format="png").get("data")
    if data:
        Path(file).write_bytes(base64.b64decode(data))


def is_loading(words: str) -> bool:
    """Whether all that a page says is that it is loading."""
    plain = " ".join(words.lower().split()).strip(" .…!")
    return plain in ("loading", "please wait", "loading please wait", "loading, please wait") or (
        plain.startswith("loading") and len(plain.split()) <= 4
    )


def main() -> None:
    """Read the wish, look, and write what was seen."""
    try:
        seen = see(json.loads(sys.argv[1]))
    except (OSError, TimeoutError, KeyError, ValueError) as wrong:  # whatever a browser does, it is told in words
        seen = {"fault": f"{wrong or type(wrong).__name__}"}
    print(json.dumps(seen), flush=True)


if __name__ == "__main__":
    main()
