"""Knowing that a run is up: a listening socket of its own tree that answers over HTTP, or a line that it prints."""

from __future__ import annotations

import re
import threading
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Literal

import msgspec

from dokimon.core.expressions import expression
from dokimon.core.processes.answering import Asking
from dokimon.core.processes.settling import Settled, Settling
from dokimon.core.processes.sockets import asked_address, listeners, origin, strangers
from dokimon.core.processes.systems.face import here
from dokimon.core.processes.systems.values import Sockets
from dokimon.core.processes.tree import Tree
from dokimon.core.report.model import Listening, Stranger

_LOOK_EVERY = 0.02
_LATER_LOOK_EVERY = 0.06
_AT_FIRST_SECONDS = 3.0
"""How often the sockets are looked at, at first and later: most servers are up within seconds or take many."""

_GLANCE_EVERY = 0.004
_LATER_GLANCE_EVERY = 0.04
_GLANCES_BETWEEN = 12
_LATER_GLANCES_BETWEEN = 5
"""Where the kernel tells cheaply that nothing is new: how often it is asked, and how often before all is looked at."""

_HALT_EVERY = 0.1
"""Seconds between two looks at whether somebody asked to stop, while only the end is waited for."""

_AFTER_FAILURE = 1.0
_AFTER_SUCCESS = 30.0
"""Seconds that the rest of a tree may take to vanish once its command has ended, or to listen once it ended well."""

_URL = expression(r"https?://[^\s/:]+:(\d{2,5})|https?://\[[0-9a-f:]+\]:(\d{2,5})", re.IGNORECASE)


class State(msgspec.Struct, frozen=True, kw_only=True):
    """How waiting came out.

    `how` is `up`, `ended` (the run is over), `late` (the time was), `halted` (somebody asked to stop), or `settled`: it
    listens nowhere, does nothing more, and `settled` says what it said last. `at` is the
    socket that is asked from now on, `url` its own address, `shown` the same as a person would type it, `by` says how
    the run is known to be up, `answered` that it was by an answer over HTTP,
    `as_asked` that it was by the line or the file that was asked for.
    """

    how: Literal["up", "ended", "late", "halted", "settled"]
    seconds: float
    by: str = ""
    at: Listening | None = None
    url: str | None = None
    shown: str | None = None
    contested: tuple[Stranger, ...] = ()
    settled: Settled | None = None
    answered: bool = False
    as_asked: bool = False


class Awaited(msgspec.Struct, frozen=True, kw_only=True):
    """What shows that a run is up, or over.

    `port` is where it is expected, the first choice among several sockets. `line` is a pattern of output that alone
    makes it count as up, and so does a `file` that is newer than the start; where the run `serves`, a socket must be
    there too. `get` is a path that must answer with a success, in place of any answer to `/`. `ends` says that it is a
    program: then only its end is waited for, `within` seconds. What `draws` a window can be looked at once it runs.
    What `is_server` surely speaks HTTP in the end, however long it is silent. What `speaks_http`, by the files of its
    project or by an address that it prints, must answer so: to be silent or to hang up is no other language then. What
    `builds` first may fetch something.
    """

    within: float
    port: int | None = None
    line: str | None = None
    file: Path | None = None
    get: str | None = None
    serves: bool = False
    ends: bool = False
    draws: bool = False
    is_server: bool = False
    speaks_http: bool = False
    builds: bool = False


def wait_until_up(tree: Tree, awaited: Awaited, halt: threading.Event) -> State:
    """Wait until the run is up, has ended, its time is over, or `halt` is set."""
    started = time.monotonic()
    if awaited.ends:
        return _wait_until_ended(tree, awaited.within, halt, started)
    begun = time.time()
    asking = Asking(started + awaited.within, awaited.get)
    settling = None
    if not (awaited.serves or awaited.line or awaited.file or awaited.get):
        settling = Settling(tree, builds=awaited.builds)
    table = here().sockets()
    if awaited.line:
        tree.output.await_line(awaited.line)
    waiting = _Waiting(tree, awaited, asking, begun)
    try:
        return _looked_until_up(tree, awaited, halt, asking, settling, table, waiting, started, begun)
    finally:
        waiting.close()


class _Waiting:
    """The pauses between two looks: each ends early once there may be something to see."""

    def __init__(self, tree: Tree, awaited: Awaited, asking: Asking, begun: float) -> None:
        self._tree, self._awaited, self._asking, self._begun = tree, awaited, asking, begun
        self._listeners = here().new_listeners()

    def pause(self, spent: float) -> None:
        """Wait until a socket may listen, an answer or a sign has come, the command has ended, or a moment is over."""
        if self._listeners is None or self._tree.ended:
            seconds = _LOOK_EVERY if spent < _AT_FIRST_SECONDS else _LATER_LOOK_EVERY
            self._asking.news.wait(seconds) if self._tree.ended else self._tree.wait(seconds)
            self._asking.news.clear()
            return
        glance = _GLANCE_EVERY if spent < _AT_FIRST_SECONDS else _LATER_GLANCE_EVERY
        for _ in range(_GLANCES_BETWEEN if spent < _AT_FIRST_SECONDS else _LATER_GLANCES_BETWEEN):
            told = self._asking.news.wait(glance)
            self._asking.news.clear()
            if told or self._tree.ended or self._has_sign() or self._listeners.changed():
                return

    def _has_sign(self) -> bool:
        file = self._awaited.file
        return bool(self._tree.output.found) or (file is not None and _is_new(file, self._begun))

    def close(self) -> None:
        if self._listeners:
            self._listeners.close()


def _looked_until_up(
    tree: Tree,
    awaited: Awaited,
    halt: threading.Event,
    asking: Asking,
    settling: Settling | None,
    table: Sockets,
    waiting: _Waiting,
    started: float,
    begun: float,
) -> State:
    seen, told_port, over_since = 0, None, None
    while True:
        spent = time.monotonic() - started
        seen, lines = tree.output.since(seen)
        told_port = _port_in(lines) or told_port
        if halt.is_set():
            return State(how="halted", seconds=spent)
        over, processes = tree.ended, tree.processes()
        sockets = _ranked(listeners(processes, table), awaited.port or told_port, told_port)
        over_since = (over_since or time.monotonic()) if over and not sockets else over_since
        if over_since and not sockets and _is_over(tree, processes, over_since):
            return State(how="ended", seconds=spent)
        if told_port and not awaited.speaks_http:
            awaited = _with_printed_address(awaited, sockets, told_port)
        up = _by_what_it_shows(tree, awaited, asking, table, sockets, started, begun)
        if up is None and settling and not over:
            up = _settled(settling.look(), awaited, tree, sockets, spent)
        if up:
            return up
        if spent > awaited.within:
            return State(how="late", seconds=spent, at=sockets[0] if sockets else None)
        waiting.pause(spent)


def _with_printed_address(awaited: Awaited, sockets: Sequence[Listening], printed: int) -> Awaited:
    """What prints the HTTP address of a socket of its own is to speak HTTP there."""
    is_own = any(at.port == printed for at in sockets)
    return msgspec.structs.replace(awaited, speaks_http=True) if is_own else awaited


def _by_what_it_shows(
    tree: Tree,
    awaited: Awaited,
    asking: Asking,
    table: Sockets,
    sockets: Sequence[Listening],
    started: float,
    begun: float,
) -> State | None:
    spent = time.monotonic() - started
    if awaited.draws and not tree.ended and not (awaited.line or awaited.file or awaited.get):
        return State(how="up", seconds=spent, by="it runs, and its window is looked for")
    if awaited.line or awaited.file:
        return _by_sign(tree, awaited, begun, spent, sockets)
    return _by_answer(tree, awaited, asking, table, sockets, started)


def _is_over(tree: Tree, processes: list[int], over_since: float) -> bool:
    """What a command that has ended left behind may be a server on its way up, but not after a failure."""
    patience = _AFTER_FAILURE if tree.exit_status else _AFTER_SUCCESS
    return not processes or time.monotonic() - over_since > patience


def _settled(
    settled: Settled | None, awaited: Awaited, tree: Tree, sockets: Sequence[Listening], spent: float
) -> State | None:
    """Up, where it waits for something to do, or serves something other than HTTP; else only settled."""
    if settled is None:
        return None
    if settled.how == "crashed":
        return State(how="settled", seconds=spent, settled=settled)
    if awaited.is_server:
        return None
    if sockets and awaited.speaks_http:
        line = f"it has been silent and idle for {_DUMB_SECONDS:g} s"
        return _dumb(line, sockets[0], spent) if spent > _DUMB_SECONDS else None
    if sockets:
        if spent < _SILENT_SECONDS:
            return None
        by = f"it accepts connections on port {sockets[0].port}, and is silent to HTTP"
        return State(how="up", seconds=spent, by=by, at=sockets[0])
    processes = tree.processes()
    paths, ports = here().unix_sockets(processes), here().udp_ports(processes)
    if settled.how in ("waits", "silent") and (paths or ports):
        where = f"the UNIX socket {paths[0]}" if paths else f"UDP port {ports[0]}"
        return State(how="up", seconds=spent, by=f"it listens on {where}, and has nothing more to do")
    if settled.how == "waits":
        return State(how="up", seconds=spent, by=f"it says “{settled.line}”, and waits", settled=settled)
    return State(how="settled", seconds=spent, settled=settled)


_SILENT_SECONDS = 10.0
"""Of a server that accepts connections, does nothing and answers nothing: it waits for words of another language."""


_DUMB_SECONDS = 20.0
"""Of a server that is to answer over HTTP, does nothing, and answers nothing: a first answer that is compiled works."""


def _dumb(line: str, at: Listening, spent: float) -> State:
    return State(how="settled", seconds=spent, at=at, settled=Settled("dumb", line))


def _wait_until_ended(tree: Tree, within: float, halt: threading.Event, started: float) -> State:
    while not tree.wait(_HALT_EVERY):
        spent = time.monotonic() - started
        if halt.is_set():
            return State(how="halted", seconds=spent)
        if spent > within:
            return State(how="late", seconds=spent)
    return State(how="ended", seconds=time.monotonic() - started)


def _by_sign(tree: Tree, awaited: Awaited, begun: float, spent: float, sockets: Sequence[Listening]) -> State | None:
    """Up by a line that it printed or a file that it made; where it serves, not before it listens."""
    by = f"printed “{tree.output.found}”" if tree.output.found else None
    if awaited.file and _is_new(awaited.file, begun):
        by = f"made {awaited.file.name}"
    if by is None or (awaited.serves and not sockets):
        return None
    at = sockets[0] if sockets else None
    url = origin(at) if at else None
    return State(how="up", seconds=spent, by=by, at=at, url=url, shown=url, as_asked=True)


def _by_answer(
    tree: Tree, awaited: Awaited, asking: Asking, table: Sockets, sockets: Sequence[Listening], started: float
) -> State | None:
    """Up by an answer of one of its own sockets."""
    asking.ask(sockets)
    answered = asking.answered(sockets)
    if not answered:
        return None
    processes = tree.processes()
    if answered[0] not in listeners(processes, table):  # once more: it must still be the tree's own
        return None
    at, url, how = answered
    if how and awaited.speaks_http and not how.says_what:
        spent = time.monotonic() - started
        return _dumb("it hangs up on every request", at, spent) if spent > _SILENT_SECONDS else None
    others = strangers(at.port, processes) if table.is_shared(at.port) else ()
    person = url if others else re.sub(r"//[^/]*", f"//localhost:{at.port}", url)
    by = f"its own socket answers GET {awaited.get} with a success" if awaited.get else _LISTENS_AND_ANSWERS
    return State(
        how="up",
        seconds=asking.when(at) - started,
        by=how.words if how else by,
        at=at,
        url=None if how else url,
        shown=None if how else person,
        contested=_contesting(at, others),
        answered=how is None,
    )


_LISTENS_AND_ANSWERS = "its own socket listens and answers over HTTP"


def _port_in(lines: Sequence[str]) -> int | None:
    for text in lines:
        if found := _URL.search(text):
            return int(found[1] or found[2])
    return None


def printed_ports(lines: Sequence[str]) -> frozenset[int]:
    """Return the ports of all HTTP addresses in the lines."""
    return frozenset(int(found[1] or found[2]) for line in lines for found in _URL.finditer(line))


def _ranked(found: Sequence[Listening], first: int | None, printed: int | None) -> list[Listening]:
    """The expected port first, then the one that the run itself named, then in order of number; IPv4 before IPv6."""
    return sorted(found, key=lambda at: (at.port != first, at.port != printed, at.port, ":" in at.address))


def _contesting(at: Listening, others: Sequence[Stranger]) -> tuple[Stranger, ...]:
    """Return strangers that hold the very address that is asked: then it is not known which of them answered."""
    return tuple(each for each in others if each.address in (at.address, asked_address(at)))


def _is_new(file: Path, since: float) -> bool:
    """Whether a file is there and was written since; file systems keep times less exactly than the clock does."""
    try:
        return file.stat().st_mtime >= since - 0.02
    except OSError:
        return False
