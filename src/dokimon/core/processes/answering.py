"""Asking the sockets of a run whether they answer over HTTP, over TLS, or in another language."""

from __future__ import annotations

import re
import threading
import time
from collections.abc import Callable, Sequence
from importlib import import_module
from typing import TYPE_CHECKING, NamedTuple

from dokimon.core.processes.deadline import Deadline
from dokimon.core.processes.greeting import greeting_of, speaks_http2
from dokimon.core.processes.sockets import asked_address, origin
from dokimon.core.report.model import Listening

if TYPE_CHECKING:
    from http.client import HTTPConnection, HTTPResponse

_ASK_AGAIN_AFTER = 0.1


class Answer(NamedTuple):
    """What a socket answered to a request over HTTP: the status, whether it is a page, and whether it is to be asked again.

    One that says that it is only starting (RFC 9110 §15.6.4: 503, with the time after which to try again) is `early`.
    """

    status: int
    is_page: bool = False
    early: bool = False

    @property
    def worth(self) -> int:
        """How much it looks like what a person would open: a page, another success, something else, a refusal."""
        if 200 <= self.status < 400:
            return 3 if self.is_page else 2
        return 0 if self.status in (400, 404, 405, 426) else 1


def answer_of(at: Listening, scheme: str, seconds: float, get: str | None = None) -> Answer | None:
    """Ask a socket for `get`, or `/`, once; None where it does not answer over HTTP.

    The answer is read as far as it is short: what is cut off in the middle of an answer may tell of an error.
    """
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
            got = link.getresponse()
        if deadline.over:  # the end that was seen is of our own making
            return None
        said = _beginning(link, got)
    except (OSError, http.client.HTTPException, ValueError):
        return None
    finally:
        link.close()
    early = got.status == 503 and (got.headers.get("Retry-After") is not None or bool(_EARLY.search(said)))
    return Answer(got.status, "html" in (got.headers.get("Content-Type") or ""), early)


def _beginning(link: HTTPConnection, got: HTTPResponse) -> bytes:
    """Read an answer to its end where that comes at once; return its beginning."""
    import http.client

    said = b""
    try:
        with Deadline(_READ_SECONDS) as deadline:
            if link.sock:
                deadline.watch(link.sock)
            while len(said) < _MOST_READ and (more := got.read(65536)):
                said += more
    except (OSError, http.client.HTTPException, ValueError):
        pass
    return said[:2000]


_READ_SECONDS = 0.5
_MOST_READ = 1 << 20
_EARLY = re.compile(rb"(?i)warming up|starting up|still starting|not ready yet|initiali[sz]ing")


def _load_beforehand() -> None:
    """Load what the checks of a page take while the server starts."""
    for name in ("psutil", "httpx", "httpcore", "bs4"):
        import_module(name)


class OtherLanguage(NamedTuple):
    """What a socket speaks in place of HTTP, in words; `says_what` where it said so itself."""

    words: str
    says_what: bool


class Told(NamedTuple):
    """What is known of a socket that was asked: since when (`time.monotonic`), its URL, its answer or its other language."""

    when: float
    url: str
    answer: Answer | None = None
    language: OtherLanguage | None = None

    @property
    def worth(self) -> int:
        """How much it looks like what a person would open."""
        return self.answer.worth if self.answer else -1


class Asking:
    """Asks each socket for `/`, in threads, until it answers: a development server's first answer may take long."""

    def __init__(self, deadline: float, get: str | None) -> None:
        self._deadline = deadline
        self._get = get
        self._asked: set[tuple[str, int]] = set()
        self.told: dict[tuple[str, int], Told] = {}
        self.news = threading.Event()
        self.over = threading.Event()
        # Loading the HTTP client takes as long as many a server takes to start: do both at once.
        threading.Thread(target=_load_beforehand, daemon=True).start()

    def ask(self, sockets: Sequence[Listening], schemes: Callable[[int], str | None]) -> None:
        """Begin to ask those that were not asked yet; first with the scheme that was printed for their port, if one was."""
        for at in sockets:
            key = (at.address, at.port)
            if key not in self._asked:
                self._asked.add(key)
                first = schemes(at.port) or "http"
                threading.Thread(target=self._until_answered, args=(at, key, first), daemon=True).start()

    def of(self, at: Listening) -> Told | None:
        """Return what is known of a socket."""
        return self.told.get((at.address, at.port))

    def _until_answered(self, at: Listening, key: tuple[str, int], scheme: str) -> None:
        """Ask by turns for HTTP and TLS, with growing pauses; what does neither is told by its greeting, or as it is."""
        begun = time.monotonic()
        pause = _ASK_AGAIN_AFTER
        while (left := self._deadline - time.monotonic()) > 0 and not self.over.is_set():
            asked = time.monotonic()
            answer = answer_of(at, scheme, left, self._get)
            if answer and not (answer.early and left > _LAST_TRIES) and (not self._get or answer.status < 400):
                self._tell(key, origin(at, scheme), answer, None)
                return
            hung_up = answer is None and time.monotonic() - asked < _HANGS_UP_SECONDS
            # That it hangs up on TLS says nothing: it may speak plainly, and be busy.
            is_other = hung_up and scheme == "http" and asked - begun > _NOT_HTTP_SECONDS
            if is_other and not self._get and key not in self.told:
                language = _other_language(at)
                self._tell(key, origin(at, "tcp"), None, language)
                if language.says_what:
                    return
            # What hangs up on plain HTTP may want TLS.
            if answer is None:
                scheme = "https" if scheme == "http" else "http"
            self.over.wait(pause)
            pause = min(pause * 2, _LONGEST_PAUSE)

    def _tell(self, key: tuple[str, int], url: str, answer: Answer | None, language: OtherLanguage | None) -> None:
        self.told[key] = Told(time.monotonic(), url, answer, language)
        self.news.set()


_LAST_TRIES = 2.0
"""Seconds before the end of its time, from which on an answer counts that says only that it is starting."""

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
