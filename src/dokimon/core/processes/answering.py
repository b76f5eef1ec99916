"""Asking the sockets of a run whether they answer over HTTP, over TLS, or in another language."""

from __future__ import annotations

import threading
import time
from collections.abc import Sequence
from importlib import import_module
from typing import NamedTuple

from dokimon.core.processes.deadline import Deadline
from dokimon.core.processes.greeting import greeting_of, speaks_http2
from dokimon.core.processes.sockets import asked_address, origin
from dokimon.core.report.model import Listening

_ASK_AGAIN_AFTER = 0.1

_BETTER_ONE_SECONDS = 1.0
"""How long a better candidate that is still silent is waited for when another one has answered."""


def answers(at: Listening, scheme: str, seconds: float, get: str | None) -> bool:
    """Whether the socket answers a request for `/` with any HTTP status, or one for `get` with a success."""
    import http.client
    import ssl

    address = asked_address(at)
    link: http.client.HTTPConnection
    if scheme == "https":
        # A certificate made for development is not one that this system trusts; only loopback is asked here.
        trusting = ssl.create_default_context()
        trusting.check_hostname = False
        trusting.verify_mode = ssl.CERT_NONE
        link = http.client.HTTPSConnection(address, at.port, timeout=seconds, context=trusting)
    else:
        link = http.client.HTTPConnection(address, at.port, timeout=seconds)
    try:
        with Deadline(seconds) as deadline:
            link.connect()
            deadline.watch(link.sock)
            link.request("GET", get or "/", headers={"Accept": "text/html,*/*;q=0.8", "User-Agent": "dokimon"})
            status = link.getresponse().status
        if deadline.over:  # the end that was seen is of our own making
            return False
        return status < 400 if get else status > 0
    except (OSError, http.client.HTTPException, ValueError):
        return False
    finally:
        link.close()


def _load_beforehand() -> None:
    """Load what the checks of a page take while the server starts."""
    for name in ("psutil", "httpx", "httpcore", "bs4"):
        import_module(name)


def status_of(at: Listening, seconds: float) -> int | None:
    """Return the status with which a socket answers `GET /` over HTTP, or None where it does not."""
    import http.client

    link = http.client.HTTPConnection(asked_address(at), at.port, timeout=seconds)
    try:
        with Deadline(seconds) as deadline:
            link.connect()
            deadline.watch(link.sock)
            link.request("GET", "/", headers={"Accept": "text/html,*/*;q=0.8", "User-Agent": "dokimon"})
            return link.getresponse().status
    except (OSError, http.client.HTTPException, ValueError):
        return None
    finally:
        link.close()


class OtherLanguage(NamedTuple):
    """What a socket speaks in place of HTTP, in words; `says_what` where it said so itself."""

    words: str
    says_what: bool


class Asking:
    """Asks each socket for `/`, in threads, until it answers: a development server's first answer may take long."""

    def __init__(self, deadline: float, get: str | None) -> None:
        self._deadline = deadline
        self._get = get
        self._asked: set[tuple[str, int]] = set()
        self._answers: dict[tuple[str, int], tuple[float, str, OtherLanguage | None]] = {}
        self._first: float | None = None
        self.news = threading.Event()
        # Loading the HTTP client takes as long as many a server takes to start: do both at once.
        threading.Thread(target=_load_beforehand, daemon=True).start()

    def ask(self, sockets: Sequence[Listening]) -> None:
        """Begin to ask those that were not asked yet."""
        for at in sockets:
            key = (at.address, at.port)
            if key not in self._asked:
                self._asked.add(key)
                threading.Thread(target=self._until_answered, args=(at, key), daemon=True).start()

    def answered(self, sockets: Sequence[Listening]) -> tuple[Listening, str, OtherLanguage | None] | None:
        """Return the best socket that has answered, its URL, and what it speaks where that is not HTTP.

        A better one that is silent gets a little time; one that speaks HTTP is better than one that does not.
        """
        for at in sorted(
            sockets, key=lambda each: bool(self._answers.get((each.address, each.port), (0, "", None))[2])
        ):
            answer = self._answers.get((at.address, at.port))
            if answer:
                return at, answer[1], answer[2]
            if self._first is None or time.monotonic() - self._first < _BETTER_ONE_SECONDS:
                return None
        return None

    def when(self, at: Listening) -> float:
        """Return when a socket answered (`time.monotonic`)."""
        return self._answers[at.address, at.port][0]

    def _until_answered(self, at: Listening, key: tuple[str, int]) -> None:
        """Ask by turns for HTTP and TLS, with growing pauses; what does neither is told by its greeting, or as it is."""
        begun = time.monotonic()
        scheme, pause = "http", _ASK_AGAIN_AFTER
        while (left := self._deadline - time.monotonic()) > 0:
            asked = time.monotonic()
            if answers(at, scheme, left, self._get):
                self._told(key, origin(at, scheme), None)
                return
            hung_up = time.monotonic() - asked < _HANGS_UP_SECONDS
            if hung_up and not self._get and time.monotonic() - begun > _NOT_HTTP_SECONDS:
                self._told(key, origin(at, "tcp"), _other_language(at))
                return
            # What hangs up on plain HTTP may want TLS.
            scheme = "https" if scheme == "http" else "http"
            time.sleep(pause)
            pause = min(pause * 2, _LONGEST_PAUSE)

    def _told(self, key: tuple[str, int], url: str, how: OtherLanguage | None) -> None:
        now = time.monotonic()
        self._first = self._first or now
        self._answers[key] = (now, url, how)
        self.news.set()


_HANGS_UP_SECONDS = 1.0
_NOT_HTTP_SECONDS = 2.0
"""How soon a server that speaks something else gives up on a request, and how long it is asked again all the same."""

_LONGEST_PAUSE = 1.6


def _other_language(at: Listening) -> OtherLanguage:
    address = asked_address(at)
    if said := greeting_of(address, at.port):
        return OtherLanguage(f"it accepts connections on port {at.port} and {said}", True)
    if speaks_http2(address, at.port):
        return OtherLanguage(f"it answers HTTP/2 on port {at.port}, as gRPC does", True)
    return OtherLanguage(f"it accepts connections on port {at.port}; it does not speak HTTP", False)
