"""Whether a run that listens nowhere has settled: it prints nothing more and works at nothing.

What it said last then tells what it is: a worker or a watcher that waits for something, one that waits since what it
started has crashed, or one that waits for an answer at its keyboard.
"""

from __future__ import annotations

import re
import time
from collections.abc import Sequence
from typing import Literal, NamedTuple

from dokimon.core.expressions import expression
from dokimon.core.processes.systems.face import here
from dokimon.core.processes.tree import Tree
from dokimon.core.processes.trouble import kind_of

_QUIET_SECONDS = 2.5
"""Of no output and no work, after which a line that says so is believed."""

_LONG_QUIET_SECONDS = 12.0
"""After which what says nothing of itself is no longer waited for."""

_BUILD_QUIET_SECONDS = 150.0
"""The same of what builds first: it may wait for a download without a word."""

_LOOK_EVERY = 0.5
_IDLE_SHARE = 0.05
"""Of a core."""

_WAITS = expression(
    r"(?i)\b(?:waiting|wait) for\b|\bwatching\b|\bready\b|\blistening\b|\bsubscribed\b|\bconsum(?:er|ing)\b|\bpolling\b"
    r"|\b(?:worker|scheduler|bot|agent|daemon|queue|server|service|app|application|consumer|listener|monitor|collector)\b"
    r".*\b(?:started|running|up|online|connected|logged in)\b"
    r"|\b(?:started|running|connected|logged in)\b.*\b(?:worker|scheduler|bot|agent|daemon|queue|as)\b"
    r"|\bbooted\b|press (?:ctrl|\^|enter|q\b)|ctrl[+-]c|to (?:exit|quit|stop)\b|no issues found\. watching|found 0 errors"
)
"""Words of a worker or a watcher that is up and waits for something to do."""

CRASHED = expression(
    r"(?i)app crashed - waiting for file changes|^failed running\b"
    r"|waiting for (?:file )?changes before"
    r"|exited with (?:code|status) [1-9]\d*.*(?:waiting|restart)|found [1-9]\d* errors?\. watching for file changes"
    r"|command failed.*(?:waiting|watching)|crashed.*(?:waiting|watching)"
)
"""Words of a watcher whose child has ended with an error."""

_ASKS = expression(r"[^\n]{0,120}(?:[:?>›»]|\[[yYnN]/[yYnN]\]|\([yYnN]/[yYnN]\))\s*$")
"""The end of a line that waits for an answer: it has no line end yet."""


class Settled(NamedTuple):
    """How a run has settled: it `waits` for something to do, has `crashed` under its watcher, `asks`, or is `silent`.

    One that `goes-on` says the same again and again, one that `errs` says so of an error. One is `dumb` that is to answer
    over HTTP, accepts connections, and answers nothing. One that `draws` has taken the whole terminal, and draws on it.
    """

    how: Literal["waits", "draws", "goes-on", "errs", "crashed", "asks", "silent", "dumb"]
    line: str


class Activity:
    """Since when a run has not worked (`idle_seconds`), and neither worked nor printed (`quiet_seconds`).

    Both are None where it is not known what a run works at, as on some systems.
    """

    def __init__(self, tree: Tree) -> None:
        self._tree = tree
        self._size = -1
        self._busy = 0.0
        self._looked = 0.0
        self._idle_since = self._quiet_since = time.monotonic()
        self._is_known = True

    def look(self) -> bool:
        """Look again, at most twice a second; return whether it was looked."""
        now = time.monotonic()
        if now - self._looked < _LOOK_EVERY:
            return False
        size, busy = self._tree.output.size, here().cpu_seconds(self._tree.processes())
        self._is_known = busy is not None
        works = busy is not None and busy - self._busy > _IDLE_SHARE * (now - self._looked)
        if works:
            self._idle_since = now
        if works or size != self._size:
            self._quiet_since = now
        self._size, self._busy, self._looked = size, busy or 0.0, now
        return True

    @property
    def idle_seconds(self) -> float | None:
        """Seconds since it last worked at anything."""
        return time.monotonic() - self._idle_since if self._is_known else None

    @property
    def quiet_seconds(self) -> float | None:
        """Seconds since it last worked or printed."""
        return time.monotonic() - self._quiet_since if self._is_known else None


class Settling:
    """Looks now and then at whether a run has settled; one that `builds` first may be silent for longer."""

    def __init__(self, tree: Tree, activity: Activity, *, builds: bool = False) -> None:
        self._tree = tree
        self._activity = activity
        self._long = _BUILD_QUIET_SECONDS if builds else _LONG_QUIET_SECONDS
        self._repeating = Repeating()
        self._read = 0
        self._on_screen_since: float | None = None
        self._says_up_for_good: Settled | None = None
        self._up_since = 0.0

    def look(self) -> Settled | None:
        """Return how the run has settled, or None while it has not. To be asked each time its activity was looked at."""
        quiet = self._activity.quiet_seconds
        if quiet is None:
            return None
        self._read, lines = self._tree.output.since(self._read)
        if self._tree.output.is_on_screen:
            self._on_screen_since = self._on_screen_since or time.monotonic()
            drawn = [line for line in self._tree.output.last(12) if line.strip()]
            is_long = time.monotonic() - self._on_screen_since >= _ON_SCREEN_SECONDS
            return Settled("draws", drawn[0].strip()) if drawn and is_long else None
        self._on_screen_since = None
        repeated = self._repeating.add(lines, time.monotonic()) or self._up_for_good(lines)
        if quiet < _QUIET_SECONDS:
            return repeated
        if asked := question_in(self._tree.output.begun()):
            return Settled("asks", asked)
        last = [line for line in self._tree.output.last(12) if line.strip()]
        found = _told(last)
        if found or quiet < self._long:
            return found
        return Settled("silent", last[-1] if last else "")

    def _up_for_good(self, lines: Sequence[str]) -> Settled | None:
        """Whether it has said some seconds ago that it is up until it is stopped, and of no error since then."""
        for line in lines:
            if _FOR_GOOD.search(line):
                self._says_up_for_good, self._up_since = Settled("waits", line.strip()), time.monotonic()
            elif kind_of(line) is not None or _NOT_READY.search(line):
                self._says_up_for_good = None
        return self._says_up_for_good if time.monotonic() - self._up_since >= _GOES_ON_SECONDS else None


_FOR_GOOD = expression(
    r"\bApplication started\. Press Ctrl\+C to shut down\.|\bPress Ctrl\+C to (?:stop|quit|exit|shut down)\b"
)
"""What a host says of itself once all that it holds has started, however much is said after it."""

_ON_SCREEN_SECONDS = 3.0
"""What has drawn on the whole terminal for so long has come up: it goes on until a key is pressed."""


class Repeating:
    """Lines that come again and again, one now and one then: the same but for their numbers."""

    def __init__(self) -> None:
        self._first: dict[str, float] = {}
        self._times: dict[str, int] = {}
        self._says_up = False

    def add(self, lines: Sequence[str], now: float) -> Settled | None:
        """Take in the lines that came since the last look; return what they show once one of them has come often enough."""
        shapes = {re.sub(r"\d+", "#", line.strip()): line for line in lines[-_MOST_LINES:] if line.strip()}
        for shape, line in shapes.items():
            self._says_up |= _says_that_it_waits(line)
            if _PROGRESS.search(line):
                continue
            if shape not in self._first and len(self._first) >= _MOST_SHAPES:
                continue
            since = now - self._first.setdefault(shape, now)
            self._times[shape] = self._times.get(shape, 0) + 1
            is_error = kind_of(line) is not None or bool(_NOT_READY.search(line))
            seconds = _GOES_ON_SECONDS if self._says_up else _LONG_GOES_ON_SECONDS
            seconds, times = (_ERRS_SECONDS, _ERRS_TIMES) if is_error else (seconds, _GOES_ON_TIMES)
            if since >= seconds and self._times[shape] >= times:
                return Settled("errs" if is_error else "goes-on", line.strip())
        return None


_GOES_ON_SECONDS, _LONG_GOES_ON_SECONDS, _GOES_ON_TIMES = 4.0, 20.0, 4
_ERRS_SECONDS, _ERRS_TIMES = 15.0, 5
"""For how long, and in how many looks, the same must come to be what a run does; an error may yet go away.

What never said that it is up may be a program that counts what it has done: that takes longer to tell.
"""

_PROGRESS = expression(
    r"(?i)%|\b\d+ ?(?:/|of) ?\d+\b|\b(?:download|compil|build|install|fetch|unpack|resolv|load|link)(?:ing|ed)\b|\bETA\b"
)
"""Words of what comes to an end."""

_MOST_LINES = 50
_MOST_SHAPES = 500


def question_in(begun: str) -> str | None:
    """Return the question that a line asks which has begun and not ended; None where it asks none.

    The prompt of a shell of some language waits for a command, and asks nothing.
    """
    asks = begun.strip() and _ASKS.fullmatch(begun) and not _PROMPT.fullmatch(begun.strip())
    return begun.strip() if asks else None


_PROMPT = expression(r"(?:\w+\()?[\w.:@-]*\)?(?:[(:]\d+[):]?\d*)?\s?(?:>{1,3}|\$|#)|>{2,3}|\(\w+\)\s?\d*>")
"""`1>`, `iex(1)>`, `>>>`, `irb(main):001>`, `julia>`, `(board)1>`."""


def _says_that_it_waits(line: str) -> bool:
    return bool(_WAITS.search(line)) and kind_of(line) is None and not _NOT_READY.search(line)


def _told(lines: Sequence[str]) -> Settled | None:
    for line in reversed(lines):
        if CRASHED.search(line):
            return Settled("crashed", line.strip())
    for line in reversed(lines[-6:]):
        if _says_that_it_waits(line):
            return Settled("waits", line.strip())
    return None


_NOT_READY = expression(
    r"(?i)\b(?:waiting|wait) for (?:the |an? )?(?:\w+ )?(?:postgres\w*|db|database|redis|mysql|mariadb|mongo\w*|rabbitmq"
    r"|amqp|kafka|nats|broker|server|service|api|backend|upstream|host|network|connection|lock|port|dependenc\w+"
    r"|migrations?|[\w.-]+:\d{2,5}|https?://\S+|[\w-]+\.[a-z]{2,}\b)(?!\w*s\b)"
    r"|\bnot (?:yet )?(?:ready|running|started|connected|listening|available|up)\b|\bno longer\b"
)
"""Words of one that waits for something else to be there: it is not up itself."""
