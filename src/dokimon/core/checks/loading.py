"""Loading many parts of a page side by side, over connections that stay open, as browsers do."""

from __future__ import annotations

import http.client
import threading
import time
from collections.abc import Sequence
from contextlib import ExitStack
from urllib.parse import urlsplit

from dokimon.core.at_once import at_once
from dokimon.core.checks.fetching import LARGEST_BODY, Request, Response, fetch
from dokimon.core.processes.deadline import Deadline

_AT_ONCE = 8


class Loader:
    """Loads from one origin until `deadline` (`time.monotonic`), at most so many bytes in all. Use as a context manager."""

    def __init__(self, origin: str, deadline: float, most_bytes: int) -> None:
        self.origin = origin
        self.deadline = deadline
        self._left = most_bytes
        self._kept = threading.local()
        self._closing = ExitStack()

    def __enter__(self) -> Loader:
        return self

    def __exit__(self, *_: object) -> None:
        self._closing.close()

    @property
    def is_over(self) -> bool:
        """Whether nothing more is to be loaded: its time is over, or it has loaded as much as it may."""
        return self._left <= 0 or time.monotonic() >= self.deadline

    def load(self, asked: Sequence[Request]) -> list[Response]:
        """Return the answers, in the order of what is asked."""
        return at_once(self._one, asked, _AT_ONCE)

    def _one(self, asked: Request) -> Response:
        if self.is_over:
            return Response(path=asked.path, fault="not asked for: the time for it is over")
        answer = self._quick(asked)
        if answer is None or 300 <= (answer.status or 0) < 400:  # what is not plain is asked with more care
            answer = fetch(self.origin, asked, seconds=max(self.deadline - time.monotonic(), 0.05))
        self._left -= len(answer.body)
        return answer

    def _quick(self, asked: Request) -> Response | None:
        """Ask over the connection that this thread keeps; None where that does not end well."""
        begun = time.monotonic()
        left = max(self.deadline - begun, 0.05)
        headers = {"Accept": asked.accept, "Sec-Fetch-Dest": asked.purpose, "User-Agent": "dokimon"}
        link = self._link(left)
        try:
            with Deadline(left) as deadline:
                if link.sock is None:
                    link.connect()
                if link.sock:
                    link.sock.settimeout(left)
                    deadline.watch(link.sock)
                link.request("GET", asked.path, headers={**headers, "Accept-Encoding": "identity"})
                got = link.getresponse()
                body = got.read(LARGEST_BODY)
                if got.read(1) or deadline.over or got.getheader("Content-Encoding", "identity") != "identity":
                    link.close()
                    return None
        except (OSError, http.client.HTTPException, ValueError):
            link.close()
            return None
        fields = {name.lower(): value for name, value in got.getheaders()}
        return Response(
            path=asked.path,
            status=got.status,
            type=fields.get("content-type", "").partition(";")[0].strip().lower(),
            body=body,
            seconds=round(time.monotonic() - begun, 3),
            headers=fields,
        )

    def _link(self, seconds: float) -> http.client.HTTPConnection:
        kept: http.client.HTTPConnection | None = getattr(self._kept, "link", None)
        if kept is None:
            parts = urlsplit(self.origin)
            host, port = parts.hostname or "", parts.port
            if parts.scheme == "https":
                import ssl

                trusting = ssl.create_default_context()  # only loopback is asked here
                trusting.check_hostname = False
                trusting.verify_mode = ssl.CERT_NONE
                kept = http.client.HTTPSConnection(host, port, timeout=seconds, context=trusting)
            else:
                kept = http.client.HTTPConnection(host, port, timeout=seconds)
            self._kept.link = kept
            self._closing.callback(kept.close)
        return kept
