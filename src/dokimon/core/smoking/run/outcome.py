"""What the phases of a run come to: its report, made in this one place. Pure: nothing is looked at here."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Literal

import msgspec

from dokimon.core.checks.console import ending
from dokimon.core.planning.plan import RunPlan
from dokimon.core.processes.exit_status import how_ended
from dokimon.core.processes.picture import BLIND
from dokimon.core.processes.readiness import State
from dokimon.core.report.model import Check, CheckVerdict, Diagnosis, Listening, Run, Stranger
from dokimon.core.report.summary import told_once
from dokimon.core.smoking.run.explaining import Explained
from dokimon.core.smoking.run.hearing import Heard, of_output
from dokimon.core.smoking.run.inputs import Inputs
from dokimon.core.smoking.run.phases import Checked, Ended, Waited, Watched
from dokimon.core.smoking.run.signs import Seen, decide
from dokimon.core.smoking.run.usage import Usage
from dokimon.core.text import clean


class Attached(msgspec.Struct, frozen=True):
    """What was seen of the target that a run needs; `lacks` says why there is none, with the likely causes."""

    check: Check
    lacks: str | None = None
    diagnoses: tuple[Diagnosis, ...] = ()


class Phases(msgspec.Struct, frozen=True, kw_only=True):
    """What the phases of a run saw so far; None for one that was not reached.

    It was started `at_seconds` after the smoke check began, or could not be, for the reason `not_started`. `used` is what
    was seen of it after others had used it, `heard` what it told until it was stopped, `usage` what was made of a program
    that wants arguments.
    """

    attached: Attached | None = None
    at_seconds: float | None = None
    not_started: str | None = None
    waited: Waited | None = None
    checked: Checked | None = None
    watched: Watched | None = None
    used: Watched | None = None
    heard: Heard | None = None
    ended: Ended | None = None
    usage: Usage | None = None
    explained: Explained | None = None


_NOT_WAITED = Waited(state=State(how="halted", seconds=0))


def report_of(inputs: Inputs, phases: Phases) -> Run:
    """Return the report of a run, complete as far as its phases are."""
    plan = inputs.plan
    waited, checked, ended = phases.waited or _NOT_WAITED, phases.checked or Checked(), phases.ended
    state, explained = waited.state, phases.explained or Explained()
    signs = tuple(_signs(inputs, phases))
    verdict, decisive = decide(signs)
    is_up = state.how == "up"
    return Run(
        name=plan.name,
        command=inputs.shown,
        kind=_kind(inputs, phases),
        verdict=verdict,
        reason=decisive.says,
        source=plan.source,
        url=state.shown and state.shown + "/" if is_up else None,
        up_by=_up_by(phases),
        at_seconds=phases.at_seconds,
        up_seconds=round(state.seconds, 3) if is_up else None,
        answered_seconds=checked.answered_seconds,
        checked_seconds=checked.seconds,
        watched_seconds=phases.watched.seconds if phases.watched else None,
        ended_seconds=ended.seconds if ended else None,
        listening=_listening(phases),
        strangers=(*inputs.port.held, *state.contested),
        checks=_checks(inputs, phases),
        facts=checked.facts,
        diagnoses=explained.diagnoses,
        noticed=explained.noticed,
        exit_status=ended.exit_status if ended else waited.exit_status,
        last_lines=decisive.last_lines,
        signs=tuple(each.reported for each in signs),
        log=explained.log,
        log_left_out=explained.left_out,
        warnings=explained.warnings,
        exposure_meant=plan.expose,
        stopped_by=ended.stopped.by if ended else None,
        stop_seconds=ended.stopped.seconds if ended and ended.stopped.by else None,
        stopping=ended.stopped.steps if ended else (),
        left_behind=ended.stopped.left_behind if ended else (),
    )


def _up_by(phases: Phases) -> str | None:
    """Return how it is known that the run is up; None where it is not."""
    if _by_window(phases):
        return "it draws a window of its own"
    return phases.waited.state.by if phases.waited and phases.waited.state.how == "up" else None


def skipped(plan: RunPlan, because: str) -> Run:
    """Return the report of a run that was not carried out."""
    return Run(
        name=plan.name,
        command=plan.in_words,
        kind=plan.kind or "unknown",
        verdict="skipped",
        reason=because,
        source=plan.source,
    )


def _kind(inputs: Inputs, phases: Phases) -> Literal["server", "program", "unknown"]:
    waited, checked = phases.waited, phases.checked
    if phases.usage:
        return "program"
    if (waited and waited.state.how == "up") or _by_window(phases):
        return "server"
    if waited and waited.state.how == "ended" and checked and not checked.halted:
        return "program"
    return inputs.plan.kind or "unknown"


def _by_window(phases: Phases) -> bool:
    """Whether a run that did nothing else to be seen was found to draw a window."""
    return bool(phases.waited and phases.waited.state.how == "settled" and phases.checked)


def _signs(inputs: Inputs, phases: Phases) -> Iterator[Seen]:
    """What each phase saw that speaks for the run or against it, the last phase first."""
    ended = phases.ended
    if ended:
        yield from _of_end(inputs, phases, ended)
    if phases.usage:
        usage, last = phases.usage, phases.waited.last_lines if phases.waited else ()
        yield Seen(_OF_USAGE[usage.verdict], usage.reason, last)
        return
    for watched in (phases.used, phases.watched):
        if watched and watched.went:
            yield Seen("went-down", watched.went, watched.last_lines)
    if phases.checked and phases.waited:
        yield from _of_checks(inputs, phases, phases.checked, phases.waited)
    if phases.waited:
        yield from _of_wait(inputs, phases, phases.waited)
    if phases.waited and phases.heard:
        yield from of_output(phases.heard, phases.waited.state)
    if phases.not_started is not None:
        yield Seen("not-started", f"could not be started: {phases.not_started}")
    if phases.attached and phases.attached.lacks:
        yield Seen("no-target", phases.attached.lacks)
    if inputs.plan.lacks:
        yield Seen("lacks", inputs.plan.lacks)


_OF_USAGE: dict[CheckVerdict, str] = {"passed": "shows-help", "unsure": "wants-arguments", "failed": "check-failed"}


def _listening(phases: Phases) -> tuple[Listening, ...]:
    if phases.checked:
        return phases.checked.listening
    return phases.waited.listening if phases.waited else ()


_WITHOUT_WARDEN = (
    "the process by which Dokimon keeps the run together was killed; all that was known of the run was killed"
)


def _of_end(inputs: Inputs, phases: Phases, ended: Ended) -> Iterator[Seen]:
    if _kind(inputs, phases) == "server" and (stops := _stops(ended, _listening(phases))).verdict == "failed":
        yield Seen("left-behind", f"stops: {stops.seen}")
    if ended.stopped.left_behind:
        yield Seen("left-behind", could_not_be_ended(ended.stopped.left_behind))
    if ended.lost_warden:
        yield Seen("lost-warden", _WITHOUT_WARDEN)
    for each in _ends_as_expected(inputs, phases):
        if each.verdict == "failed":
            yield Seen("other-end", said(each))


def _of_checks(inputs: Inputs, phases: Phases, checked: Checked, waited: Waited) -> Iterator[Seen]:
    state, is_program = waited.state, waited.state.how == "ended"
    if state.how == "up" and state.contested and state.at:
        who = ", ".join(holder(each) for each in state.contested)
        yield Seen("shared-port", f"port {state.at.port} is shared with {who}: it is not known whose answer this is")
    if checked.halted:
        yield Seen("interrupted", "interrupted")
    if checked.went:
        yield Seen("went-down", f"it {checked.went} while it was being checked", checked.last_lines)
    for each in told_once(checked.checks):
        if each.verdict in ("failed", "unsure"):
            says = _how(waited) if is_program and each.name == "ends" else said(each)
            name = "check-failed" if each.verdict == "failed" else "check-unsure"
            yield Seen(name, says, checked.last_lines if is_program or each.verdict == "failed" else ())
    if is_program:
        yield Seen("ended-well", _how(waited), checked.last_lines)
    elif _by_window(phases):
        yield Seen("draws", "it draws a window", waited.last_lines)


def _how(waited: Waited) -> str:
    return f"{how_ended(waited.exit_status)} after {round(waited.state.seconds, 3):.2f} s"


def _of_wait(inputs: Inputs, phases: Phases, waited: Waited) -> Iterator[Seen]:
    state, last, serves = waited.state, waited.last_lines, inputs.serves
    if state.how == "halted":
        yield Seen("interrupted", "interrupted")
    if state.how == "late":
        yield _late(inputs, waited)
    if state.how == "ended" and phases.checked is None:
        asked = f"; it asked “{clean(waited.asked, 160)}”, and nobody answered" if waited.asked else ""
        yield Seen("ended-early", f"{_how(waited)}, before it was up{asked}", last)
    if state.how == "ended" and serves and inputs.plan.kind is None and phases.checked:
        yield Seen("ended-though-serving", f"{_how(waited)}, though it is to serve: {serves}", last)
    if state.how == "ended" and waited.asked:
        yield Seen("asks", f"it asked “{clean(waited.asked, 160)}” and nobody answered; {_ANSWER}", last)
    if state.settled and state.how == "settled" and not _by_window(phases):
        line, where = clean(state.settled.line, 160), ", ".join(str(at.port) for at in waited.listening[:1])
        yield {
            "crashed": Seen("crashed", f"what it watches has ended with an error: “{line}”", last),
            "errs": Seen("only-errors", f"it listens nowhere, and says “{line}”", last),
            "asks": Seen("asks", f"it asks “{line}” and waits for an answer; {_ANSWER}", last),
            "dumb": Seen("dumb", f"listens on port {where} but does not answer over HTTP: {line}", last),
        }.get(state.settled.how, Seen("idle", f"still running after {state.seconds:.0f} s: {_IDLE}", last))
    opened = phases.checked and any(each.name == "rendered" for each in phases.checked.checks)
    if state.how == "up" and inputs.opened_only and not inputs.checks and not opened:
        yield Seen(
            "not-opened", f"it is served, but its script was not run: {inputs.opened_only} runs it once it is opened"
        )
    if state.how == "up":
        yield Seen(_for_sign(state), _UP_AND_CHECKED if phases.checked and phases.checked.checks else "it is up")


_UP_AND_CHECKED = "it is up, and every check passed"


def _for_sign(state: State) -> str:
    """Return the name of the sign by which a run is known to be up."""
    if state.answered:
        return "answers"
    if state.settled:
        return "waits"
    if state.as_asked:
        return "shows"
    return "speaks" if state.at else "listens"


_ANSWER = "`keys` of a [[run]] in dokimon.toml types one"
_IDLE = "it does nothing, prints nothing more, and listens nowhere"


def _late(inputs: Inputs, waited: Waited) -> Seen:
    plan, last = inputs.plan, waited.last_lines
    if waited.gave_up_on_line:
        reason = f"the pattern {plan.up_line!r} of its `up` takes too long to search for; simplify it"
        return Seen("late", clean(reason), last)
    if plan.kind == "program":
        return Seen("late", f"did not end within {plan.within:g} s", last)
    if waited.listening:
        where = ", ".join(str(port) for port in sorted({at.port for at in waited.listening}))
        answer = f"answer GET {plan.up_get} with a success" if plan.up_get else "answer over HTTP"
        return Seen("late", f"listens on port {where} but did not {answer} within {plan.within:g} s", last)
    where = f"only on the UNIX socket {waited.unix_socket}" if waited.unix_socket else "nowhere"
    reason = f"still running after {plan.within:g} s, and listens {where}"
    return Seen("slow" if plan.kind is None else "late", reason, last)


def _checks(inputs: Inputs, phases: Phases) -> tuple[Check, ...]:
    """Return the checks, and of a server that is over that it ended as it should."""
    found = phases.checked.checks if phases.checked else ()
    if phases.usage and phases.usage.checks is not None:
        found = phases.usage.checks
    if phases.attached:
        found = (phases.attached.check, *found)
    if phases.ended is None or _kind(inputs, phases) != "server":
        return found
    return (*found, *_ends_as_expected(inputs, phases), _stops(phases.ended, _listening(phases)))


def _ends_as_expected(inputs: Inputs, phases: Phases) -> list[Check]:
    """Return the check of a server's exit status, where one is expected of it."""
    expected, ended = inputs.plan.expected_exit, phases.ended
    if expected is None or ended is None or _kind(inputs, phases) != "server":
        return []
    return ending(expected, ended.exit_status, ended.stopped.seconds)


def _stops(ended: Ended, listening: Sequence[Listening]) -> Check:
    """Return the check that nothing of a server is left: no process, no port held."""
    stopped = ended.stopped
    where = ", ".join(str(port) for port in sorted({at.port for at in listening}))
    left = [could_not_be_ended(stopped.left_behind)] if stopped.left_behind else []
    left += [f"port {each.port} held by {holder(each)}" for each in ended.held]
    signals = " then ".join(step.signal for step in stopped.steps) or "ended by itself"
    well = f"{signals}, gone after {stopped.seconds:.2f} s" + (f", port {where} free" if where else "")
    return Check(
        name="stops",
        verdict="failed" if left else "passed",
        expected="no process left, its ports free",
        seen="; ".join(left) if left else well,
        seconds=stopped.seconds,
    )


def said(check: Check) -> str:
    """Return a check that did not pass as the reason for a verdict."""
    return f"{check.full_name}: {check.seen} (expected: {check.expected})"


def holder(stranger: Stranger) -> str:
    """Return in words who holds a port."""
    if stranger.pid is None:
        return "a process that cannot be looked at"
    return f"process {stranger.pid} ({stranger.command})"


def could_not_be_ended(left: Sequence[str]) -> str:
    """Say which processes live on although they were killed."""
    if left == (BLIND,):
        return BLIND
    more = f" and {len(left) - 5} more" if left[5:] else ""
    return f"these processes could not be ended: {', '.join(left[:5])}{more}"
