"""What else of a run's own ports listens beside the one that is asked: each stands in the report with what it is."""

from __future__ import annotations

import time
from collections.abc import Sequence

import msgspec

from dokimon.core.checks.carrying_out import PlannedCheck, carry_out_checks
from dokimon.core.processes.answering import answer_of
from dokimon.core.processes.candidates import Known, is_unnamed
from dokimon.core.processes.sockets import origin
from dokimon.core.report.model import Check, CheckVerdict, Listening
from dokimon.core.smoking.run.session import Session

_MOST = 5
_SECONDS = 5.0


def check_own_ports(
    session: Session, mine: Listening | None, listening: Sequence[Listening], known: Known
) -> list[Check]:
    """Look at what else listens: one of several servers that answers with a server error fails the run.

    So does one that is silent to HTTP although its address was printed, and a page with a part that does not load. What
    may be a tool's own is not spoken to.
    """
    checks: list[Check] = []
    ports = {at.port: at for at in listening if mine is None or at.port != mine.port}
    for port, at in sorted(ports.items(), key=lambda each: (is_unnamed(each[1], known), each[0]))[:_MOST]:
        if known.is_debuggers(port):
            checks.append(_left_alone(port, "a debugger's; not spoken to"))
        elif is_unnamed(at, known):
            checks.append(_left_alone(port, "not spoken to: nobody named it, and it may be for workers of its own"))
        else:
            checks += _asked(session, at, known)
    return checks


def _left_alone(port: int, seen: str) -> Check:
    return Check(name=f"also {port}", verdict="passed", expected="a port of its own", seen=seen)


def _asked(session: Session, at: Listening, known: Known) -> list[Check]:
    begun = time.monotonic()
    scheme = known.printed.scheme_of(at.port) or "http"
    answer = answer_of(at, scheme, _SECONDS)
    if answer is None and scheme == "http" and at.port in known.printed.ports:
        scheme = "https"
        answer = answer_of(at, scheme, _SECONDS)
    seen = "accepts connections; no HTTP" if answer is None else f"GET /: {answer.status}"
    is_dumb = answer is None and at.port in known.printed.ports
    is_faulty = answer is not None and answer.status >= 500
    verdict: CheckVerdict = "failed" if is_dumb or is_faulty else "passed"
    expected = "an answer, since its address is printed" if is_dumb else "no server error"
    spent = round(time.monotonic() - begun, 3)
    own = Check(name=f"also {at.port}", verdict=verdict, expected=expected, seen=seen, seconds=spent)
    if answer is None or not answer.is_page or is_faulty or answer.status >= 300:
        return [own]
    from dokimon.core.checks.http import Http

    # What is found out on another page is no fact of the run: its title is that of its own root page.
    context = msgspec.structs.replace(session.check_context(origin=origin(at, scheme)), facts={})
    found = carry_out_checks((PlannedCheck(Http(get="/")),), context) or ()
    wrong = [each for each in found if each.verdict in ("failed", "unsure")]
    return [own, *(msgspec.structs.replace(each, part_of=own.name) for each in wrong)]
