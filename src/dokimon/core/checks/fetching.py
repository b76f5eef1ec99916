"""Asking a run over HTTP: bounded in time and size, only ever the run's own socket."""

from __future__ import annotations

import time
from collections.abc import Mapping
from typing import Any
from urllib.parse import urljoin, urlsplit

import msgspec

LARGEST_BODY = 8 * 1024 * 1024
"""Bytes of a body that are kept, also of one that was packed: a page or a script is judged by its beginning."""

_MOST_REDIRECTS = 10
_CONNECT_SECONDS = 5.0
_LOOPBACK_NAMES = ("localhost", "127.0.0.1", "::1", "0.0.0.0", "::")


class Response(msgspec.Struct, frozen=True, kw_only=True):
    """What came back. `status` is None when nothing did, and `fault` says why.

    `path` is where redirects led to, `elsewhere` the address of a redirect that leaves the run and was not followed.
    The names of `headers` are in small letters.
    """

    path: str
    status: int | None = None
    type: str = ""
    body: bytes = b""
    complete: bool = True
    seconds: float = 0.0
    fault: str | None = None
    elsewhere: str | None = None
    headers: dict[str, str] = {}
    odd: str | None = None
    """What is wrong with an answer that came all the same."""

    @property
    def text(self) -> str:
        """The body as text, in the declared encoding or UTF-8; bytes that do not fit become `�`."""
        charset = self.headers.get("content-type", "").lower().partition("charset=")[2].partition(";")[0].strip(" \"'")
        try:
            return self.body.decode(charset or "utf-8", "replace")
        except (LookupError, ValueError):
            return self.body.decode("utf-8", "replace")

    @property
    def is_page(self) -> bool:
        """Whether it is a page for a browser."""
        return self.type in ("text/html", "application/xhtml+xml") or (not self.type and looks_like_a_page(self.body))


class Request(msgspec.Struct, frozen=True, kw_only=True):
    """What is asked for. `accept` and `purpose` are what a browser would send (Fetch standard, `Sec-Fetch-Dest`)."""

    path: str
    method: str = "GET"
    headers: Mapping[str, str] = {}
    body: bytes | None = None
    accept: str = "text/html,*/*;q=0.8"
    purpose: str = "document"
    follow: bool = True


def looks_like_a_page(body: bytes) -> bool:
    """Whether a body begins as pages do."""
    return body.lstrip()[:15].lower().startswith((b"<!doctype html", b"<html"))


def own_path(address: str, origin: str, base: str) -> str | None:
    """Return the path (with query) of `address` on the run at `origin`, or None when it is on another origin.

    `address` may be relative to the path `base`. `localhost` and the loopback addresses with the run's port are the
    run itself: the literal address of its socket is asked in their place.
    """
    try:
        joined = urlsplit(urljoin(origin + base, address))
        home = urlsplit(origin)
        port = joined.port or {"http": 80, "https": 443}.get(joined.scheme)
        if joined.scheme != home.scheme or port != home.port:
            return None
    except ValueError:
        return None
    if joined.hostname not in (home.hostname, *_LOOPBACK_NAMES):
        return None
    return (joined.path or "/") + (f"?{joined.query}" if joined.query else "")


def fetch(origin: str, path: str | Request, *, seconds: float, cookies: Any = None) -> Response:
    """Ask `origin` a question, within `seconds`; redirects are followed as long as they stay on the run itself.

    `cookies` (an `http.cookiejar.CookieJar`) are sent and kept, where there are some.
    """
    import httpx

    asked = Request(path=path) if isinstance(path, str) else path
    started = time.monotonic()
    headers = {
        "Accept": asked.accept,
        "Sec-Fetch-Dest": asked.purpose,
        "User-Agent": "dokimon",
        "Accept-Encoding": "identity",
        **asked.headers,
    }
    # A certificate made for development is not one that this system trusts; only loopback is asked here.
    with httpx.Client(trust_env=False, verify=False, headers=headers, cookies=cookies) as client:
        for _ in range(_MOST_REDIRECTS + 1):
            left = seconds - (time.monotonic() - started)
            try:
                answer = _ask(client, origin, asked, max(left, 0.05), started)
            except httpx.TimeoutException:
                return Response(path=asked.path, fault=f"no answer within {seconds:.0f} s", seconds=_since(started))
            except (httpx.HTTPError, httpx.InvalidURL, ValueError, OSError) as wrong:
                return Response(path=asked.path, fault=str(wrong) or type(wrong).__name__, seconds=_since(started))
            location = answer.headers.get("location") if 300 <= (answer.status or 0) < 400 else None
            if location is None or not asked.follow:
                return answer
            own = own_path(location, origin, asked.path)
            if own is None:
                return msgspec.structs.replace(answer, elsewhere=location)
            # RFC 9110 §15.4: what follows 303 is a GET, and by custom what follows 301 and 302 is one too.
            again = asked.method if answer.status in (307, 308) or asked.method == "HEAD" else "GET"
            asked = msgspec.structs.replace(
                asked, path=own, method=again, body=asked.body if again == asked.method else None
            )
    fault = f"more than {_MOST_REDIRECTS} redirects, one after the other"
    return Response(path=asked.path, fault=fault, seconds=_since(started))


def _since(started: float) -> float:
    return round(time.monotonic() - started, 3)


def _ask(client: Any, origin: str, asked: Request, left: float, started: float) -> Response:
    import httpx

    deadline = time.monotonic() + left
    timeout = httpx.Timeout(left, connect=min(left, _CONNECT_SECONDS))
    body, complete, odd = bytearray(), True, None
    with client.stream(asked.method, origin + asked.path, content=asked.body, timeout=timeout) as response:
        try:
            for chunk in response.iter_raw():
                body += chunk
                if len(body) > LARGEST_BODY or time.monotonic() > deadline:
                    complete = False
                    break
        except httpx.RemoteProtocolError as wrong:  # another length than announced, or the connection was cut
            complete, odd = False, str(wrong)
        headers = {name.lower(): value for name, value in response.headers.items()}
        data, packed = _unpacked(bytes(body[:LARGEST_BODY]), headers.get("content-encoding", ""))
        return Response(
            path=asked.path,
            status=response.status_code,
            type=headers.get("content-type", "").partition(";")[0].strip().lower(),
            body=data,
            complete=complete and len(data) < LARGEST_BODY,
            seconds=_since(started),
            headers=headers,
            odd=odd or packed,
        )


def _unpacked(body: bytes, encoding: str) -> tuple[bytes, str | None]:
    """Return a body unpacked up to the largest size, and what is wrong with it (RFC 9110 §8.4.1)."""
    import zlib

    if encoding in ("", "identity"):
        return body, None
    if encoding not in ("gzip", "x-gzip", "deflate"):
        return body, f"it is packed as {encoding}, which was not asked for"
    try:
        unpacker = zlib.decompressobj(zlib.MAX_WBITS | 32)
        return unpacker.decompress(body, LARGEST_BODY), None
    except zlib.error as wrong:
        return body, f"it says that it is packed as {encoding}, and is not: {wrong}"
