"""What a server answers of which nothing is expected: its root page, or the addresses that the run and its project name.

An interface for programs need not have anything at its root. That it answers at all, and well where it says that it
does, is what can be known of it.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import ClassVar, Literal, NamedTuple
from urllib.parse import urlsplit

import msgspec

from dokimon.core.checks.context import CheckContext
from dokimon.core.checks.fetching import Response
from dokimon.core.checks.html import read
from dokimon.core.checks.http import Http, look_at
from dokimon.core.checks.http2 import over_http2, refuses_http1
from dokimon.core.checks.opened import check_opened, is_shell, not_rendered
from dokimon.core.checks.spec import CheckSpec
from dokimon.core.checks.upgrading import takes_websockets
from dokimon.core.processes.sockets import origin
from dokimon.core.report.model import Check

_HEALTH = re.compile(r"(?i)/(?:-/)?(?:health\w*|ready\w*|live\w*|status|ping|up|heartbeat|actuator/health)(?:/|$)")
_SIGN_IN = re.compile(r"(?i)log-?in|sign-?in|auth|sso|openid|saml")
_MOST_LINKED = 2


class Named(NamedTuple):
    """A path that something names: the run in what it `printed`, a `README`, or a `guess` by a library that it uses."""

    path: str
    by: Literal["printed", "README", "guess"]


class RootPage(CheckSpec, frozen=True, kw_only=True):
    """Not to be asked for: the default check of a server. `has_page` says that a page for its root is among its files.

    `at` is the root, or an address with a token that it printed: without that it shows a page to sign in at most.
    """

    kind_name: ClassVar[str] = "http"
    asks_server: ClassVar[bool] = True

    at: str = "/"
    paths: tuple[Named, ...] = ()
    has_page: bool = False

    @property
    def default_name(self) -> str:
        """As the check of the path itself is called."""
        return f"GET {self.at.partition('?')[0]}"

    def look(self, context: CheckContext) -> list[Check]:
        """Look at the root page and at what is named, and return what was seen."""
        answer, checks = look_at(Http(get=self.at), context)
        checks = [msgspec.structs.replace(checks[0], name=self.default_name), *checks[1:]]
        if answer is None:
            return checks
        answer, checks, context = _where_it_leads(answer, checks, context)
        if refuses_http1(answer):
            return [over_http2(checks[0], context), *checks[1:]]
        named = [*self.paths, *(Named(path, "printed") for path in _linked(answer))]
        refused = checks[0].verdict == "unsure" and not 200 <= (answer.status or 0) < 300
        more, served = _of_named(named, refused, context)
        checks = _opened(answer, checks, context)
        if refused:
            checks = [_refusal(checks[0], answer, served, self.has_page, context), *checks[1:]]
        return [*checks, *more]


def _opened(answer: Response, checks: list[Check], context: CheckContext) -> list[Check]:
    """Open a page with code of its own in a browser; say why not where its scripts fill it. A broken one need not be."""
    if not (answer.is_page and 200 <= (answer.status or 0) < 300):
        return checks
    fills = is_shell(answer.text)
    if not fills and not read(answer.text).has_own_code:
        return checks
    if any(each.verdict == "failed" for each in checks):
        return checks
    why = not_rendered(context)
    if why and not fills:
        return checks
    if why:
        return [
            msgspec.structs.replace(each, seen=f"{each.seen}; {why}") if each.name == "page" else each
            for each in checks
        ]
    return [*checks, *check_opened(context, answer.path, answer.text)]


def _where_it_leads(
    answer: Response, checks: list[Check], context: CheckContext
) -> tuple[Response, list[Check], CheckContext]:
    """Where the root page redirects to another port of the run itself, as from HTTP to HTTPS, look there."""
    if not answer.elsewhere:
        return answer, checks, context
    try:
        leads = urlsplit(answer.elsewhere)
        port = leads.port or {"http": 80, "https": 443}.get(leads.scheme)
    except ValueError:
        return answer, checks, context
    at = next((each for each in context.listening() if each.port == port), None)
    if at is None or leads.scheme not in ("http", "https"):
        return answer, checks, context
    there = msgspec.structs.replace(context, origin=origin(at, leads.scheme))
    led, found = look_at(Http(get=leads.path or "/"), there)
    if led is None:
        return answer, [*checks, *found], context
    note = f"{checks[0].seen.partition(': it answers')[0]}, a port of its own"
    return led, [msgspec.structs.replace(found[0], name="GET /", seen=f"{note}: {found[0].seen}"), *found[1:]], there


def _of_named(named: Sequence[Named], refused: bool, context: CheckContext) -> tuple[list[Check], str | None]:
    """Return what is to be told of the paths that are named, and the first of them that is served."""
    told: list[Check] = []
    served = None
    for each in dict.fromkeys(named):
        if each.by == "README" and (not refused or served):
            continue
        answer, checks = look_at(Http(get=each.path), context)
        status = answer.status or 0 if answer else 0
        is_served = all(check.verdict == "passed" for check in checks)
        served = served or (each.path if is_served else None)
        is_health = bool(_HEALTH.search(each.path))
        if is_served or each.by == "README":
            told += checks[:1] if is_served else []
        elif status == 0 or status >= 500 or 200 <= status < 300:
            told += checks
        elif each.by == "printed" and status == 404 and (refused or is_health):
            told.append(msgspec.structs.replace(checks[0], verdict="failed" if refused else "unsure"))
    if served:  # one of the addresses that it names works: what it prints of another may be meant for programs
        told = [each for each in told if not (each.verdict == "failed" and each.seen.startswith("404"))]
    return told, served


def _refusal(check: Check, answer: Response, served: str | None, has_page: bool, context: CheckContext) -> Check:
    """Return the check of a root page that is refused, as what it is: a fault, or just what the server should do."""
    status, why = answer.status or 0, None
    if served:
        why = f"GET {served} is served"
    elif status == 401:
        why = "it asks who it is, as it should"
    elif status == 405 and "allow" in answer.headers:
        why = f"it takes {answer.headers['allow'][:60] or 'nothing'} there"
    elif status in (400, 404, 426) and takes_websockets(context.origin or "", answer.path):
        why = "it speaks WebSocket there"
    elif status == 404 and not has_page and answer.path == "/":
        why = "it listens and answers, and no page is among its files"
    elif answer.elsewhere and _SIGN_IN.search(answer.elsewhere):
        why = "it asks to sign in elsewhere"
    return msgspec.structs.replace(check, verdict="passed", seen=f"{check.seen}; {why}") if why else check


def _linked(answer: Response) -> list[str]:
    """Return the addresses of its own health that a page links."""
    if not answer.is_page or b"href" not in answer.body:
        return []
    from dokimon.core.checks.html import parsed

    found = (str(tag["href"]) for tag in parsed(answer.text).find_all("a", href=True))
    own = [path for path in found if path.startswith("/") and not path.startswith("//") and _HEALTH.search(path)]
    return list(dict.fromkeys(own))[:_MOST_LINKED]
