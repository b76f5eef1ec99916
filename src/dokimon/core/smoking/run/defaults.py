"""What is looked at of a run that is up although nobody asked: its root page, what else listens, its certificate."""

from __future__ import annotations

import time
from collections.abc import Collection, Sequence

from dokimon.core.checks.carrying_out import PlannedCheck, carry_out_checks
from dokimon.core.checks.console import unasked
from dokimon.core.planning.health import health_paths
from dokimon.core.processes.answering import status_of
from dokimon.core.processes.readiness import State, printed_ports
from dokimon.core.processes.sockets import addresses_for_others
from dokimon.core.report.model import Check, CheckVerdict, Listening
from dokimon.core.smoking.run.session import Session

_MOST_OTHERS = 5
_OTHERS_SECONDS = 5.0


def with_root_page(asked: Sequence[PlannedCheck], url: str | None) -> tuple[PlannedCheck, ...]:
    """Return the checks of a server: where none asks it for anything, its root page is looked at too."""
    if url is None or any(each.spec.asks_server for each in asked):
        return tuple(asked)
    from dokimon.core.checks.http import Http

    return (PlannedCheck(Http(get="/")), *asked)


def default_checks(session: Session, state: State, listening: Sequence[Listening]) -> list[Check]:
    """Look at what nobody asked for."""
    plan, found = session.inputs.plan, []
    if state.settled and not session.inputs.checks:
        found += unasked(session.check_context(origin=state.url))
    if state.url and not session.inputs.checks:
        found += _others(state.at, listening, printed_ports(session.tree.output.kept()))
    if state.url and not session.inputs.checks:
        found += _health(session, state.url)
    if state.url and state.url.startswith("https:"):
        from dokimon.core.checks.certificate import check_certificate

        found += check_certificate(state.url)
    if state.url and plan.expose:
        from dokimon.core.checks.exposure import reachable

        page = state.shown and state.shown + "/"
        found += reachable(addresses_for_others(page, listening), state.url)
    return found


def _health(session: Session, url: str) -> list[Check]:
    """Ask the addresses by which the project itself says whether it is well: they are believed more than the root page."""
    paths = health_paths(session.inputs.plan.folder)
    if not paths:
        return []
    from dokimon.core.checks.http import Http

    asked = [PlannedCheck(Http(get=path)) for path in paths]
    return list(carry_out_checks(asked, session.check_context(origin=url)) or ())


def _others(mine: Listening | None, listening: Sequence[Listening], printed: Collection[int]) -> list[Check]:
    """Look at what else listens: one of several servers that answers with a server error fails the run.

    So does one that is silent to HTTP although its address was `printed`.
    """
    checks = []
    ports = {at.port: at for at in listening if mine is None or at.port != mine.port}
    for port, at in sorted(ports.items())[:_MOST_OTHERS]:
        begun = time.monotonic()
        status = status_of(at, _OTHERS_SECONDS)
        seen = "accepts connections; no HTTP" if status is None else f"GET /: {status}"
        is_dumb = status is None and port in printed
        verdict: CheckVerdict = "failed" if is_dumb or (status is not None and status >= 500) else "passed"
        spent = round(time.monotonic() - begun, 3)
        expected = "an answer, since its address is printed" if is_dumb else "no server error"
        checks.append(Check(name=f"also {port}", verdict=verdict, expected=expected, seen=seen, seconds=spent))
    return checks
