"""The phases of a run, in order: wait, check, watch, look again, end. Each looks at the session and returns what it saw.

None decides: what they come to is decided in `outcome.py`.
"""

from __future__ import annotations

import time
from collections.abc import Sequence
from pathlib import Path

import msgspec

from dokimon.core.checks.carrying_out import PlannedCheck, carry_out_checks
from dokimon.core.checks.console import ending, unasked
from dokimon.core.checks.measuring import as_text
from dokimon.core.checks.window import Window
from dokimon.core.declarations.checkout import SETTINGS_FILE
from dokimon.core.expressions import expression
from dokimon.core.planning.parts import asks_in_shell
from dokimon.core.planning.recipes import recipe_lines
from dokimon.core.processes.exit_status import how_ended
from dokimon.core.processes.masking import is_secret_name
from dokimon.core.processes.readiness import Awaited, State, wait_until_up
from dokimon.core.processes.settling import question_in
from dokimon.core.processes.sockets import strangers
from dokimon.core.processes.stopping import Stopped
from dokimon.core.processes.systems.face import here
from dokimon.core.processes.trouble import kind_of
from dokimon.core.report.model import Check, Fact, Listening, Stranger
from dokimon.core.smoking.context import UNCHANGED_SHARE
from dokimon.core.smoking.run.defaults import default_checks, with_root_page
from dokimon.core.smoking.run.session import Session
from dokimon.core.text import clean

LAST_LINES = 15
_LAST_LINES_WHILE_UP = 5
"""A live server logs every request; show fewer of its last lines than of a run that failed."""

_ANSWERS_WITHIN = 1.0
"""What starts again, since its files changed, listens again within so many seconds."""


class Waited(msgspec.Struct, frozen=True, kw_only=True):
    """How waiting came out, with what the run had printed last; `listening` and `unix_socket` where it was late.

    `gave_up_on_line` says that the pattern of its `up` took too long to search for; `asked` is the question with which
    what it printed ends.
    """

    state: State
    last_lines: tuple[str, ...] = ()
    exit_status: int | None = None
    listening: tuple[Listening, ...] = ()
    unix_socket: str | None = None
    gave_up_on_line: bool = False
    asked: str | None = None


class Checked(msgspec.Struct, frozen=True, kw_only=True):
    """What the checks saw: their results, the values that they found out, and where the run listened.

    `halted` says that somebody stopped them. `went` is what became of a run that was over before its checks were, in
    words. The run's first answer over HTTP came after `answered_seconds`, the last check was over after `seconds`.
    """

    checks: tuple[Check, ...] = ()
    facts: tuple[Fact, ...] = ()
    listening: tuple[Listening, ...] = ()
    last_lines: tuple[str, ...] = ()
    halted: bool = False
    went: str | None = None
    answered_seconds: float | None = None
    seconds: float | None = None


class Watched(msgspec.Struct, frozen=True, kw_only=True):
    """What was seen while it was watched for `seconds`: what became of it (`went`) where it is over, and its last lines."""

    seconds: float | None = None
    went: str | None = None
    last_lines: tuple[str, ...] = ()


class Ended(msgspec.Struct, frozen=True, kw_only=True):
    """How it was stopped, `seconds` after its start, and what was left of it: who then `held` a port of its own."""

    stopped: Stopped
    seconds: float | None
    exit_status: int | None
    lost_warden: bool
    held: tuple[Stranger, ...] = ()


def wait(session: Session) -> Waited:
    """Wait until the run is up, has ended, or its time is over."""
    tree, plan = session.tree, session.inputs.plan
    state = wait_until_up(tree, _awaited(session), session.context.halt)
    if state.how in ("up", "halted"):
        return Waited(state=state)
    if state.how == "ended":
        tree.output.wait(1.0)
    late = state.how in ("late", "settled") and plan.kind != "program"
    found = session.listening() if late else ()
    paths = here().unix_sockets(tree.processes()) if late and not found else ()
    return Waited(
        state=state,
        last_lines=tree.output.last(LAST_LINES),
        exit_status=tree.exit_status,
        listening=found,
        unix_socket=paths[0] if paths else None,
        gave_up_on_line=tree.output.gave_up,
        asked=_asked(session) if state.how == "ended" else None,
    )


def _asked(session: Session) -> str | None:
    """Return what a run that has ended had asked: the question it printed, or the line of a script that asks it."""
    inputs = session.inputs
    return question_in(session.tree.output.begun()) or asks_in_shell(inputs.plan.folder, inputs.argv)


_BUILDERS = frozenset(
    {"go", "cargo", "mvn", "gradle", "dotnet", "mix", "swift", "stack", "cabal", "sbt", "flutter", "dart"}
)
"""Commands that fetch and compile before they start what they are for."""


def _builds(argv: Sequence[str]) -> bool:
    wrapped = any("gradlew" in word or "mvnw" in word for word in argv[:2])
    return (Path(argv[0]).name in _BUILDERS or wrapped) and "--no-build" not in argv


def _awaited(session: Session) -> Awaited:
    plan, argv = session.inputs.plan, session.inputs.argv
    return Awaited(
        within=plan.within,
        port=session.inputs.port.number,
        declared=session.inputs.declared_ports,
        line=plan.up_line,
        file=plan.up_file,
        get=plan.up_get,
        serves=any(each.spec.asks_server for each in session.inputs.checks),
        ends=plan.kind == "program",
        draws=plan.draws_window,
        is_server=plan.kind == "server",
        speaks_http=session.inputs.serves is not None,
        parts=len(session.inputs.serving_parts),
        builds=_builds(argv),
    )


def check(session: Session, waited: Waited) -> Checked | None:
    """Carry out the checks that its state allows; None where it allows none."""
    state = waited.state
    if state.how == "ended":
        return _check_program(session, waited)
    if state.how == "up" and not session.context.checking:
        return Checked(listening=session.listening())
    if state.how == "up":
        return _check_server(session, state)
    if state.settled and state.settled.how == "silent" and session.display and not session.inputs.checks:
        return _check_window(session)
    return None


def _check_program(session: Session, waited: Waited) -> Checked | None:
    plan, status, seconds = session.inputs.plan, waited.exit_status, round(waited.state.seconds, 3)
    expected = plan.expected_exit or 0
    if plan.kind == "server" or (plan.kind is None and status != expected):
        return None  # it should have stayed up: there is nothing left to look at
    over = session.check_context(ended=(status, seconds))
    found = carry_out_checks(session.inputs.checks, over)
    if found is None:
        return Checked(halted=True)
    checks = [*ending(expected, status, seconds), *found]
    if not session.inputs.checks and status == expected:
        written_down = plan.kind == "program" and plan.source.file == SETTINGS_FILE
        checks += unasked(over, may_be_silent=written_down, echoes=recipe_lines(plan.folder, session.inputs.argv))
    return Checked(checks=tuple(checks), facts=_facts(session), last_lines=waited.last_lines)


def _check_server(session: Session, state: State) -> Checked:
    """Carry out the checks that the run is given, or the defaults."""
    began = session.spent
    listening = session.listening()
    if state.contested:
        return Checked(listening=listening, seconds=session.spent)
    found = carry_out_checks(with_root_page(session, state), session.check_context(origin=state.url))
    if found is None:
        return Checked(listening=listening, halted=True, seconds=session.spent)
    found = (*found, *default_checks(session, state, listening))
    session.draws_window |= any(each.kind == "window" for each in found)
    went = _went_meanwhile(session, state)
    firsts = [each.seconds for each in found if each.grade and each.seconds is not None]
    answered = round(began + min(firsts), 3) if firsts else None
    return Checked(
        checks=found,
        facts=_facts(session),
        listening=listening,
        last_lines=session.tree.output.last(LAST_LINES if went else _LAST_LINES_WHILE_UP),
        went=went,
        answered_seconds=round(state.seconds, 3) if state.answered else answered,
        seconds=session.spent,
    )


def _went_meanwhile(session: Session, state: State) -> str | None:
    """Return what became of a server that no longer listens where it was asked; None while it does."""
    if state.at is None or _listens(session, state.at):
        return None
    tree = session.tree
    return how_ended(tree.exit_status) if tree.ended or tree.is_gone() else "no longer listens"


def _check_window(session: Session) -> Checked | None:
    """Look for the window of a run that does nothing else to be seen; None where it has none."""
    found = carry_out_checks((PlannedCheck(Window(within="2s")),), session.check_context()) or ()
    if not any(each.verdict == "passed" for each in found):
        return None
    session.draws_window = True
    return Checked(checks=found)


def _facts(session: Session) -> tuple[Fact, ...]:
    every = sorted(session.context.facts.items())
    mine = [(name, value) for (run, name), value in every if run == session.inputs.plan.name]
    return tuple(
        Fact(clean(name, 80), "***" if is_secret_name(name) else clean(as_text(value), 200)) for name, value in mine
    )


def watch(session: Session, state: State, up_since: float) -> Watched:
    """Watch a run that is up `up_since` (`time.monotonic`) for a moment longer: it may die of what it finds out now."""
    tree, context = session.tree, session.context
    seconds = context.watched_seconds * (_SEVERAL_TIMES if session.inputs.several else 1)
    if context.unchanged.is_set() and not _is_uneasy(session):
        seconds *= UNCHANGED_SHARE
    until = max(up_since + seconds, time.monotonic() + context.after_checks_seconds)
    longest = up_since + context.watched_seconds * _LONGEST_TIMES
    while not context.halt.is_set() and (left := until - time.monotonic()) > 0:
        if left < _LOOK_AGAIN and until < longest and _is_uneasy(session):
            until = min(until + context.watched_seconds, longest)
        if tree.wait(min(left, 0.1)):
            time.sleep(0.05)
        if tree.is_gone() or (tree.ended and state.at is None):
            tree.output.wait(1.0)  # what it said last may still be on its way
            return Watched(
                seconds=round(time.monotonic() - up_since, 3),
                went=f"{how_ended(tree.exit_status)} within {seconds:g} s after it was up",
                last_lines=tree.output.last(LAST_LINES),
            )
    return Watched(seconds=round(time.monotonic() - up_since, 3))


_SEVERAL_TIMES = 3
"""What starts several parts is watched so many times as long: they come up, or die, one after the other."""

_LONGEST_TIMES = 6
"""So many times as long it is watched at most, while it tells of retries, warnings or errors."""

_LOOK_AGAIN = 0.15

_UNEASY = expression(
    r"(?i)\b(?:retr(?:y|ies|ying)|(?:tries|attempts?) (?:left|remaining)|attempt \d|try \d|trying again|warn(?:ing)?)\b"
)


def _is_uneasy(session: Session) -> bool:
    """Whether what it printed last tells of a retry, a warning or an error: what comes of it is yet to be seen."""
    return any(_UNEASY.search(line) or kind_of(line) for line in session.tree.output.last(_LAST_LINES_WHILE_UP))


def look_again(session: Session, state: State) -> Watched:
    """Look once more at a run that was up while others used it.

    A shell around it may live a moment longer than the server: that this listens no more is seen first.
    """
    went = None if session.context.halt.is_set() else _went_down(session, state.at)
    return Watched(went=went and f"{went} after it was up", last_lines=session.tree.output.last(LAST_LINES))


def _went_down(session: Session, at: Listening | None) -> str | None:
    tree = session.tree
    if tree.is_gone():
        return how_ended(tree.exit_status)
    if at is None or _listens(session, at) or (not tree.wait(_ANSWERS_WITHIN) and _listens(session, at)):
        return None
    return how_ended(tree.exit_status) if tree.ended else "no longer listens"


def _listens(session: Session, at: Listening) -> bool:
    return any(each.port == at.port for each in session.listening())


def end(session: Session, ports: set[int], known: set[tuple[int, int | None]]) -> Ended:
    """Say how a run that is over was stopped; who holds one of its `ports` now, of those that were not `known` before."""
    assert session.stopped is not None
    held = [each for port in sorted(ports) for each in strangers(port) if (port, each.pid) not in known]
    return Ended(
        stopped=session.stopped,
        seconds=session.ended_seconds,
        exit_status=session.tree.exit_status,
        lost_warden=session.tree.lost_warden,
        held=tuple(held),
    )
