"""Which of a run's own sockets are spoken to, and which of those that answered is the one that a person would open."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence
from typing import NamedTuple

from dokimon.core.processes.answering import Told
from dokimon.core.processes.printed import NOTHING, Printed
from dokimon.core.processes.systems.face import is_by_chance
from dokimon.core.report.model import Listening

_BETTER_SECONDS = 1.0
"""How long a better one is waited for once some socket has answered."""

_UPGRADE_SECONDS = 10.0
"""The same where all that answers wants another protocol: a reload socket beside a server that is not up yet."""

_PARTS_SECONDS = 20.0
"""The same where several parts are started side by side, and work."""

IDLE_SECONDS = 2.5
"""Of no work, after which nothing more is on its way up."""


class Known(NamedTuple):
    """What is known of a run's ports: the one that it is `expected` on, those that are `declared`, what it `printed`.

    So many of its `parts`, which it starts side by side, are to serve.
    """

    expected: int | None = None
    declared: frozenset[int] = frozenset()
    printed: Printed = NOTHING
    parts: int = 0

    def names(self, port: int) -> bool:
        """Whether somebody named the port: who planned the run, or the run itself."""
        printed = self.printed
        return port == self.expected or port in self.declared or port in printed.numbers or port in printed.ports

    def is_debuggers(self, port: int) -> bool:
        """Whether the port is a debugger's: the run said so, or it is usual for one and nobody named it."""
        return port in self.printed.tools or (port in _DEBUGGERS and not self.names(port))


_DEBUGGERS = frozenset({9229, 9230, 9222, 5005, 5678, 2345})
"""Of Node.js, Chromium, the JVM, debugpy and Delve, by custom."""


def own_servers(sockets: Iterable[Listening], known: Known) -> list[Listening]:
    """Return the sockets that may be the run's own servers, the likeliest first: a debugger's is none.

    The expected port comes first, then those that it printed in their order, then by number; IPv4 before IPv6.
    """
    order = {each.port: place for place, each in reversed(list(enumerate(known.printed.addresses)))}
    found = [at for at in sockets if not known.is_debuggers(at.port)]
    return sorted(
        found, key=lambda at: (at.port != known.expected, order.get(at.port, 999), at.port, ":" in at.address)
    )


def is_unnamed(at: Listening, known: Known) -> bool:
    """Whether the system gave out the port by chance and nobody named it: then it may be a tool's own, for its workers."""
    return is_by_chance(at.port) and not known.names(at.port)


def may_be_asked(servers: Sequence[Listening], known: Known, idle_seconds: float) -> list[Listening]:
    """Return the sockets that may be spoken to without disturbing the run.

    A port that nobody named is not, while there is another, or while the run works: who connects to it may take the
    place of one of its own workers.
    """
    named = [at for at in servers if not is_unnamed(at, known)]
    if named or idle_seconds < IDLE_SECONDS:
        return named
    return list(servers)


def chosen(
    asked: Sequence[Listening],
    told: Callable[[Listening], Told | None],
    known: Known,
    now: float,
    idle_seconds: float,
) -> Listening | None:
    """Return the socket that is asked from now on; None while a better one may still come. `now` is `time.monotonic`."""
    answers = [(at, each) for at in asked if (each := told(at))]
    if not answers:
        return None
    since_first = now - min(each.when for _, each in answers)
    best, answer = max(answers, key=lambda pair: pair[1].worth)  # of several of the same worth the first
    is_idle = idle_seconds >= IDLE_SECONDS
    listening = {at.port for at, each in answers if each.answer}
    if 1 < known.parts > len(listening) and since_first < _PARTS_SECONDS and not is_idle:
        return None
    waits = _patience(best, answer, [at for at in asked if told(at) is None], asked, known, is_idle)
    return best if since_first >= waits else None


def _patience(
    best: Listening,
    answer: Told,
    pending: Sequence[Listening],
    asked: Sequence[Listening],
    known: Known,
    is_idle: bool,
) -> float:
    """Return how long after the first answer a better one than the best so far is waited for, in seconds."""
    if answer.worth >= _SUCCESS:
        return _BETTER_SECONDS if any(asked.index(at) < asked.index(best) for at in pending) else 0
    is_clear = best.port == known.expected or (answer.worth > 0 and known.names(best.port))
    if not pending and is_clear:
        return 0
    wants_upgrade = answer.answer is not None and answer.answer.status == _UPGRADE_REQUIRED
    return _UPGRADE_SECONDS if wants_upgrade and not is_idle else _BETTER_SECONDS


_SUCCESS = 2
_UPGRADE_REQUIRED = 426


_TOOLS_PIPE = re.compile(
    r"/dotnet-diagnostic-|/clr-debug-pipe|/tsx-\d+/|/vscode-|/node-ipc|\.X11-unix|/gdbus-|/pulse/|/dbus-"
)


def without_tools_pipes(paths: Sequence[str]) -> list[str]:
    """Return the UNIX sockets that are the application's own, not those of its runtime, its watcher or its desktop."""
    return [path for path in paths if not _TOOLS_PIPE.search(path)]
