"""Asking a run over HTTP: bounded in time and size, only ever the run's own socket."""

from __future__ import annotations

import time
from urllib.parse import urljoin, urlsplit

import msgspec

LARGEST_BODY = 8 * 1024 * 1024
"""Bytes of a body that are kept; a page or a script is judged by its beginning."""

_MOST_REDIRECTS = 10
_CONNECT_SECONDS = 5.0
_LOOPBACK_NAMES = ("localhost", "127.0.0.1", "::1", "0.0.0.0", "::")


class Answer(msgspec.Struct, frozen=True):
    """What came back. `status` is None when nothing did, and `fault` says why.

    `path` is where redirects led to, `elsewhere` the address of a redirect that leaves the run and was not followed.
    """

    path: str
    status: int | None = None
    type: str = ""
    body: bytes = b""
    complete: bool = True
    seconds: float = 0.0
    fault: str | None = None
    elsewhere: str | None = None

    @property
    def text(self) -> str:
        """The body as text: UTF-8, and what is not becomes a replacement character."""
        return self.body.decode("utf-8", "replace")


def own_path(address: str, origin: str, base: str) -> str | None:
    """Return the path (with query) of `address` on the run at `origin`, or None when it lies elsewhere.

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


def fetch(
    origin: str, path: str, *, seconds: float, accept: str = "text/html,*/*;q=0.8", purpose: str = "document",
    follow: bool = True,
) -> Answer:  # fmt: skip
    """Ask `origin` for `path`, within `seconds`; redirects are followed as long as they stay on the run itself.

    `accept` and `purpose` are what a browser would send for such a request (Fetch standard, `Sec-Fetch-Dest`):
    development servers answer by them.
    """
    import httpx

    started = time.monotonic()
    headers = {
        "Accept": accept,
        "Sec-Fetch-Dest": purpose,
        "User-Agent": "dokimon",
        "Accept-Encoding": "identity",
    }
    # A certificate made for development is not one that this system trusts; only loopback is asked here.
    with httpx.Client(trust_env=False, verify=False, headers=headers) as client:
        for _ in range(_MOST_REDIRECTS + 1):
            left = seconds - (time.monotonic() - started)
            try:
                answer, location = _ask(client, origin, path, max(left, 0.05), started)
            except httpx.TimeoutException:
                return Answer(path, fault=f"no answer within {seconds:.0f} s", seconds=time.monotonic() - started)
            except (httpx.HTTPError, httpx.InvalidURL, ValueError, OSError) as wrong:
                return Answer(path, fault=str(wrong) or type(wrong).__name__, seconds=time.monotonic() - started)
            if location is None or not follow:
                return answer
            own = own_path(location, origin, path)
            if own is None:
                return msgspec.structs.replace(answer, elsewhere=location)
            path = own
    return Answer(
        path,
        fault=f"more than {_MOST_REDIRECTS} redirects, one after the other",
        seconds=time.monotonic() - started,
    )


def _ask(client: object, origin: str, path: str, left: float, started: float) -> tuple[Answer, str | None]:
    import httpx

    assert isinstance(client, httpx.Client)
    deadline = time.monotonic() + left
    timeout = httpx.Timeout(left, connect=min(left, _CONNECT_SECONDS))
    body, complete = bytearray(), True
    with client.stream("GET", origin + path, timeout=timeout) as response:
        for chunk in response.iter_raw():
            body += chunk
            if len(body) > LARGEST_BODY or time.monotonic() > deadline:
                complete = False
                break
        answer = Answer(
            path=path,
            status=response.status_code,
            type=response.headers.get("content-type", "").partition(";")[0].strip().lower(),
            body=bytes(body[:LARGEST_BODY]),
            complete=complete,
            seconds=round(time.monotonic() - started, 3),
        )
        return answer, response.headers.get("location") if response.is_redirect else None
