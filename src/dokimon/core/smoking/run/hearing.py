"""What a run told until it was stopped, and what that says of it: its errors, its parts, its work."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from dokimon.core.expressions import expression
from dokimon.core.planning.parts import background_parts
from dokimon.core.processes.candidates import is_unnamed, own_servers
from dokimon.core.processes.readiness import State
from dokimon.core.processes.systems.face import here
from dokimon.core.processes.trouble import Trouble, troubles_in
from dokimon.core.smoking.run.session import Session
from dokimon.core.smoking.run.signs import Seen
from dokimon.core.text import clean

_MOST = 5
"""So many signs of one kind are told: a log may be full of errors."""

_NO_WORK = expression(
    r"(?i)\b(?:0|no|zero) (?:\w+ )?(?:jobs?|tasks?|schedules?|entries|workers|consumers|queues|cron ?jobs|timers)\b"
)
"""A scheduler or worker that says that it has nothing to do at all, not now nor later."""


class Heard(msgspec.Struct, frozen=True, kw_only=True):
    """The troubles that it told of, in their order; a line that says that it has no work.

    It puts so many `parts` side by side, of which so many live; of those that are `to_serve` so many listen.
    """

    troubles: tuple[Trouble, ...] = ()
    no_work: str | None = None
    parts: int = 0
    living_parts: int = 0
    to_serve: tuple[str, ...] = ()
    listening_ports: int = 0

    @property
    def broke(self) -> bool:
        """Whether it told of an error that nobody caught, or of one that it calls fatal: it wants no arguments then."""
        return any(each.kind == "uncaught" or _FATAL.search(each.line) for each in self.troubles)


_FATAL = expression(r"\b(?:CRITICAL|FATAL|PANIC)\b")


def hear(session: Session) -> Heard:
    """Go through what the run has printed so far. To be called before it is stopped: what it says then is another matter."""
    plan = session.inputs.plan
    lines = [line for line in session.tree.output.kept() if not any(text and text in line for text in plan.harmless)]
    parts = background_parts(plan.folder, session.inputs.argv) if session.inputs.several else 0
    to_serve = session.inputs.serving_parts
    return Heard(
        to_serve=to_serve,
        listening_ports=_serving_ports(session) if to_serve else 0,
        parts=parts,
        living_parts=here().most_children(session.tree.processes()) if parts else 0,
        troubles=troubles_in(lines),
        no_work=next((line for line in lines if _NO_WORK.search(line)), None),
    )


def _serving_ports(session: Session) -> int:
    """How many ports of its own may be a part's: a debugger's is none, nor is one for workers that nobody named."""
    known = session.known_ports()
    return len({at.port for at in own_servers(session.listening(), known) if not is_unnamed(at, known)})


def of_output(heard: Heard, state: State) -> Iterator[Seen]:
    """What a run told speaks against it. A part that has ended with an error is no longer there, whatever else is."""
    # What answers well, and warns that it went on without something, has said all there is to say.
    troubles = [each for each in heard.troubles if not (each.is_warning and state.answered)]
    for each in troubles[:_MOST]:
        says = f"it tells of {each.says}{_times(each)}: “{each.line}”"
        if each.kind == "ended" and state.how == "up":
            yield Seen("crashed", f"a part of it has ended with an error: “{each.line}”")
        elif state.how == "up" and state.settled and (each.again_and_again or each.kind == "gave-up"):
            yield Seen("only-errors", says)
        elif state.how in ("up", "ended"):
            yield Seen("tells-of-error", says)
    if heard.living_parts < heard.parts and state.how == "up":
        yield Seen(
            "part-unseen", f"it puts {heard.parts} parts side by side, and only {heard.living_parts} of them live"
        )
    if heard.listening_ports < len(heard.to_serve) and state.how == "up":
        commands = ", ".join(f"`{clean(each, 60)}`" for each in heard.to_serve[:4])
        yield Seen(
            "part-unseen",
            f"{len(heard.to_serve)} parts of it are to serve ({commands}), and only {heard.listening_ports} listen",
        )
    if heard.no_work and state.how == "up" and state.settled:
        yield Seen("no-work", f"it waits for work and says that there is none: “{clean(heard.no_work.strip(), 160)}”")


def _times(trouble: Trouble) -> str:
    return f", {trouble.times} times" if trouble.times > 1 else ""
