"""What is looked at of a run that is up although nobody asked: its root page, what else listens, its certificate."""

from __future__ import annotations

from collections.abc import Sequence

from dokimon.core.checks.carrying_out import PlannedCheck, carry_out_checks
from dokimon.core.checks.console import unasked
from dokimon.core.expressions import expression
from dokimon.core.planning.health import health_paths
from dokimon.core.planning.named_paths import paths_in_readme, probes
from dokimon.core.planning.phones import serves_phones
from dokimon.core.planning.serving import has_root_page
from dokimon.core.processes.readiness import State
from dokimon.core.processes.sockets import addresses_for_others
from dokimon.core.report.model import Check, Listening
from dokimon.core.smoking.run.own_ports import check_own_ports
from dokimon.core.smoking.run.session import Session

_MOST_PATHS = 3
_TOKEN = expression(r"[?&](?:token|access_token|auth|key)=")
_PRINTS_WITHIN = 0.2


def with_root_page(session: Session, state: State) -> tuple[PlannedCheck, ...]:
    """Return the checks of a server: where none asks it for anything, its root page is looked at too."""
    asked = session.inputs.checks
    if state.url is None or any(each.spec.asks_server for each in asked):
        return tuple(asked)
    from dokimon.core.checks.root_page import Named, RootPage

    folder, port = session.inputs.plan.folder, state.at.port if state.at else 0
    known = session.known_ports()
    if port not in known.printed.ports:  # many print their address just after they listen
        output = session.tree.output
        output.wait_for_more(output.count, _PRINTS_WITHIN)
        known = session.known_ports()
    printed = known.printed.paths_of(port)
    opened = next((path for path in printed if _TOKEN.search(path)), "/")
    named = [Named(path, "printed") for path in printed[:_MOST_PATHS] if not _TOKEN.search(path)]
    named += [Named(path, "README") for path in paths_in_readme(folder, port)[:_MOST_PATHS]]
    named += [Named(path, "guess") for path in dict.fromkeys((*session.inputs.plan.paths, *probes(folder)))]
    root = PlannedCheck(RootPage(at=opened, paths=tuple(named), has_page=has_root_page(folder)))
    served = serves_phones(folder, session.inputs.argv)
    if served is None:
        return (root, *asked)
    from dokimon.core.checks.phones import Phones

    return (root, PlannedCheck(Phones(platforms=served.platforms, has_manifest=served.by_expo)), *asked)


def default_checks(session: Session, state: State, listening: Sequence[Listening]) -> list[Check]:
    """Look at what nobody asked for."""
    inputs, found = session.inputs, list[Check]()
    if state.settled and not inputs.checks:
        found += unasked(session.check_context(origin=state.url))
    if state.url and not inputs.checks:
        found += check_own_ports(session, state.at, listening, session.known_ports())
    if state.url and not inputs.checks:
        found += _health(session, state.url)
    if state.url and state.url.startswith("https:"):
        from dokimon.core.checks.certificate import check_certificate

        found += check_certificate(state.url)
    if state.url and inputs.plan.expose:
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
