"""Asking a run over HTTP: bounded in time and size, only ever the run's own socket."""

from __future__ import annotations

import codecs
import contextlib
import re
import time
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any
from urllib.parse import urljoin, urlsplit

import msgspec

from dokimon.core.expressions import expression

if TYPE_CHECKING:
    from dokimon.core.checks.context import Cookies

LARGEST_BODY = 8 * 1024 * 1024
"""Bytes of a body that are kept, also of one that was packed: a page or a script is judged by its beginning."""

_MOST_REDIRECTS = 10
_CONNECT_SECONDS = 5.0
_ENDLESS = ("text/event-stream", "multipart/x-mixed-replace")
"""Types of answers that are not meant to end: their beginning is all that is waited for."""

_LOOPBACK_NAMES = ("localhost", "127.0.0.1", "::1", "0.0.0.0", "::")


class Response(msgspec.Struct, frozen=True, kw_only=True):
    """What came back. `status` is None when nothing did, and `fault` says why.

    `path` is where redirects led to, `elsewhere` the address of a redirect that leaves the run and was not followed.
    `cut` is an answer that was still coming when its time was over. The names of `headers` are in small letters.
    """

    path: str
    status: int | None = None
    type: str = ""
    body: bytes = b""
    complete: bool = True
    cut: bool = False
    seconds: float = 0.0
    fault: str | None = None
    elsewhere: str | None = None
    headers: dict[str, str] = {}
    odd: str | None = None
    """What is wrong with an answer that came all the same."""

    @property
    def text(self) -> str:
        """The body as text, in the declared encoding or UTF-8; bytes that do not fit become `�`."""
        return decoded(self.body, self.headers.get("content-type", ""))

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


_ENCODINGS = frozenset({
    "utf-8", "utf8", "us-ascii", "ascii", "utf-16", "utf-16le", "utf-16be", "iso-8859-1", "latin1", "iso-8859-2",
    "iso-8859-3", "iso-8859-4", "iso-8859-5", "iso-8859-6", "iso-8859-7", "iso-8859-8", "iso-8859-9", "iso-8859-10",
    "iso-8859-13", "iso-8859-14", "iso-8859-15", "iso-8859-16", "windows-1250", "windows-1251", "windows-1252",
    "windows-1253", "windows-1254", "windows-1255", "windows-1256", "windows-1257", "windows-1258", "windows-874",
    "koi8-r", "koi8-u", "gbk", "gb2312", "gb18030", "big5", "euc-jp", "iso-2022-jp", "shift_jis", "euc-kr",
})  # fmt: skip
"""The encodings of the web (WHATWG Encoding §4.2) that Python has. It has others, which no text should be taken for: some
take a time that grows with the square of the length."""

_META_CHARSET = expression(rb"""<meta[^>]{0,200}?charset\s{0,9}=\s{0,9}["']?([\w.:-]{1,40})""", re.IGNORECASE)
_PRESCAN_BYTES = 1024


def decoded(body: bytes, content_type: str = "") -> str:
    """Return a body as text: by its byte order mark, the declared charset, that of its `<meta>` (HTML §13.2.3.2), UTF-8."""
    declared = content_type.lower().partition("charset=")[2].partition(";")[0].strip(" \"'")
    if not declared and (named := _META_CHARSET.search(body[:_PRESCAN_BYTES])):
        declared = named[1].decode("ascii", "replace").lower()
    if body.startswith(codecs.BOM_UTF8) or declared not in _ENCODINGS:
        try:
            return body.decode("utf-8-sig")
        except UnicodeDecodeError:  # what browsers take such a page for, where nobody says better
            return body.decode("utf-8-sig" if declared else "cp1252", "replace")
    return body.decode({"windows-874": "cp874"}.get(declared, declared), "replace")


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


def fetch(origin: str, path: str | Request, *, seconds: float, cookies: Cookies | None = None) -> Response:
    """Ask `origin` a question, within `seconds`; redirects are followed as long as they stay on the run itself.

    `cookies` are sent and kept, where there are some.
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
    jar = cookies.jar if cookies else None
    # A certificate made for development is not one that this system trusts; only loopback is asked here.
    with httpx.Client(trust_env=False, verify=False, headers=headers, cookies=jar) as client:
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

    from dokimon.core.processes.deadline import Deadline

    timeout = httpx.Timeout(left, connect=min(left, _CONNECT_SECONDS))
    body, complete, cut, odd = bytearray(), True, False, None

    def trace(event: str, info: dict[str, Any]) -> None:
        """Hear of each connection (HTTPX, "Extensions", `trace`)."""
        if event in ("connection.connect_tcp.complete", "connection.start_tls.complete"):
            deadline.watch(info["return_value"].get_extra_info("socket"))

    with Deadline(left) as deadline, contextlib.ExitStack() as stack:
        streamed = client.stream(
            asked.method, origin + asked.path, content=asked.body, timeout=timeout, extensions={"trace": trace}
        )
        try:
            response = stack.enter_context(streamed)
        except (httpx.HTTPError, OSError):
            if deadline.over:
                raise httpx.ReadTimeout("") from None
            raise
        endless = response.headers.get("content-type", "").startswith(_ENDLESS)
        try:
            for chunk in response.iter_raw():
                body += chunk
                if len(body) > LARGEST_BODY or endless:
                    complete = False
                    break
        except httpx.TimeoutException:
            cut = True
        except (httpx.RemoteProtocolError, httpx.ReadError) as wrong:  # another length than announced, or a broken line
            complete, odd = False, str(wrong) or "the connection broke"
        if cut or deadline.over:  # the end that was seen then may be of our own making
            complete, cut, odd = False, True, None
        headers = {name.lower(): value for name, value in response.headers.items()}
        data, packed = _unpacked(bytes(body[:LARGEST_BODY]), headers.get("content-encoding", ""))
        return Response(
            path=asked.path,
            status=response.status_code,
            type=headers.get("content-type", "").partition(";")[0].strip().lower(),
            body=data,
            complete=complete and len(data) < LARGEST_BODY,
            cut=cut,
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
