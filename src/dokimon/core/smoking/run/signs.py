"""What speaks for a run and what against it, and the one decision that is made from both. docs/starting.md has the table.

A sign is something that was seen. A run passes only where something speaks for it and nothing against it; what is fatal
fails it, whatever speaks for it; all else is unsure.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, NamedTuple

import msgspec

from dokimon.core.report.model import CheckVerdict, Sign

Effect = Literal["for", "against", "fatal"]


class Meaning(NamedTuple):
    """What a sign does to the verdict, and what it is that was seen."""

    effect: Effect
    is_seen: str


MEANINGS: dict[str, Meaning] = {
    # -- it works
    "answers": Meaning("for", "a socket of its own answers over HTTP, and every check of it passed"),
    "speaks": Meaning("for", "a socket of its own speaks another language, or is silent until it is spoken to"),
    "listens": Meaning("for", "it listens on a UNIX socket or a UDP port, and has nothing more to do"),
    "shows": Meaning("for", "it printed the line, or made the file, that was asked for"),
    "waits": Meaning("for", "it is idle and says what it waits for, or says the same again and again and goes on"),
    "draws": Meaning("for", "it draws a window"),
    "ended-well": Meaning("for", "it ended as it should, and printed something of its own"),
    "shows-help": Meaning("for", "it wants arguments, and its help is shown"),
    # -- something is wrong beside that
    "tells-of-error": Meaning("against", "a line of an error's kind among what it printed"),
    "part-unseen": Meaning("against", "a part that the way starts showed no sign of its own"),
    "asks": Meaning("against", "it asks something that nobody answers"),
    "idle": Meaning("against", "it does nothing, prints nothing more, and listens nowhere"),
    "no-work": Meaning("against", "it waits for work, and says that there is none"),
    "not-opened": Meaning("against", "it is served, but its script runs only once somebody opens it"),
    "check-unsure": Meaning("against", "a check could not decide"),
    "shared-port": Meaning("against", "another program holds the very address that answered"),
    "wants-arguments": Meaning("against", "it wants something to work on, and nothing says what"),
    "slow": Meaning("against", "it neither listens nor ends in its time, and nobody said what it is"),
    "interrupted": Meaning("against", "somebody stopped the work"),
    "lacks": Meaning("against", "it cannot be carried out here"),
    # -- it does not work
    "not-started": Meaning("fatal", "its command could not be started"),
    "no-target": Meaning("fatal", "the device that it needs is not attached"),
    "ended-early": Meaning("fatal", "it ended before it was up"),
    "ended-though-serving": Meaning("fatal", "it is to serve, and ended"),
    "late": Meaning("fatal", "it was not up in its time"),
    "dumb": Meaning("fatal", "it is to answer over HTTP, accepts connections, and answers nothing"),
    "crashed": Meaning("fatal", "what it watches, or a part of it, has ended with an error"),
    "only-errors": Meaning("fatal", "it listens nowhere, and what it says is an error again and again"),
    "check-failed": Meaning("fatal", "a check failed"),
    "went-down": Meaning("fatal", "it was up, and is no longer"),
    "other-end": Meaning("fatal", "it ended in another way than it should"),
    "left-behind": Meaning("fatal", "a process or a port of it was left"),
    "lost-warden": Meaning("fatal", "what keeps the run together was killed"),
}

_VERDICTS: dict[Effect, CheckVerdict] = {"fatal": "failed", "against": "unsure", "for": "passed"}


class Seen(msgspec.Struct, frozen=True):
    """A sign as it was seen: what, in words for the report, and the last lines that belong to it."""

    name: str
    says: str
    last_lines: tuple[str, ...] = ()

    @property
    def effect(self) -> Effect:
        """What it does to the verdict."""
        return MEANINGS[self.name].effect

    @property
    def reported(self) -> Sign:
        """The sign as the report has it."""
        return Sign(name=self.name, effect=self.effect, seen=self.says)


def decide(signs: Sequence[Seen]) -> tuple[CheckVerdict, Seen]:
    """Return the verdict, and the sign that decided: of several of the same effect the first, which is seen last."""
    for effect in ("fatal", "against", "for"):
        first = next((each for each in signs if each.effect == effect), None)
        if first:
            return _VERDICTS[effect], first
    return "unsure", Seen("interrupted", "interrupted")
