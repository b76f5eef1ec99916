"""Knowing that a run is up: a listening socket of its own tree that answers over HTTP, or a line that it prints."""

from __future__ import annotations

import re
import threading
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Literal

import msgspec

from dokimon.core.processes.answering import Asking
from dokimon.core.processes.candidates import Known, chosen, may_be_asked, own_servers, without_tools_pipes
from dokimon.core.processes.printed import NOTHING, printed_in
from dokimon.core.processes.settling import Activity, Settled, Settling
from dokimon.core.processes.sockets import asked_address, listeners_of, origin, strangers
from dokimon.core.processes.systems.face import here
from dokimon.core.processes.tree import Tree
from dokimon.core.processes.trouble import kind_of
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

    `port` is where it is expected, the first choice among several sockets; `declared` are all numbers that may be ports.
    `line` is a pattern of output that alone makes it count as up, and so does a `file` that is newer than the start; where
    the run `serves`, a socket must be
    there too. `get` is a path that must answer with a success, in place of any answer to `/`. `ends` says that it is a
    program: then only its end is waited for, `within` seconds. What `draws` a window can be looked at once it runs.
    What `is_server` surely speaks HTTP in the end, however long it is silent. What `speaks_http`, by the files of its
    project, must answer so: to be silent or to hang up is no other language then. What `builds` first may fetch
    something. So many of its `parts`, which it starts side by side, are to serve.
    """

    within: float
    port: int | None = None
    declared: frozenset[int] = frozenset()
    line: str | None = None
    file: Path | None = None
    get: str | None = None
    serves: bool = False
    ends: bool = False
    draws: bool = False
    is_server: bool = False
    speaks_http: bool = False
    builds: bool = False
    parts: int = 0


def wait_until_up(tree: Tree, awaited: Awaited, halt: threading.Event) -> State:
    """Wait until the run is up, has ended, its time is over, or `halt` is set."""
    started = time.monotonic()
    if awaited.ends:
        return _wait_until_ended(tree, awaited.within, halt, started)
    if awaited.line:
        tree.output.await_line(awaited.line)
    looks = _Looks(tree, awaited, started)
    try:
        return _looked_until_up(looks, halt)
    finally:
        looks.asking.over.set()
        looks.waiting.close()


class _Looks:
    """What is looked with, over and over, until a run is up; `known` is what is known of its ports so far."""

    def __init__(self, tree: Tree, awaited: Awaited, started: float) -> None:
        self.tree, self.awaited, self.started, self.begun = tree, awaited, started, time.time()
        self.asking = Asking(started + awaited.within, awaited.get)
        self.table = here().sockets()
        self.activity = Activity(tree)
        by_settling = not (awaited.serves or awaited.line or awaited.file or awaited.get)
        self.settling = Settling(tree, self.activity, builds=awaited.builds) if by_settling else None
        self.waiting = _Waiting(tree, awaited, self.asking, self.begun)
        self.known = Known(awaited.port, awaited.declared, NOTHING, awaited.parts)
        self._seen = 0
        self._prints_own = False
        self._listens_since: float | None = None

    @property
    def listening_seconds(self) -> float:
        """Seconds since it was first seen to listen: what started late has its time to answer, too."""
        return time.monotonic() - self._listens_since if self._listens_since is not None else 0.0

    @property
    def spent(self) -> float:
        return time.monotonic() - self.started

    @property
    def idle_seconds(self) -> float:
        """Seconds without work; where that is not known, those since the start, less what a build may take."""
        idle = self.activity.idle_seconds
        return self.spent - _UNKNOWN_WORK_SECONDS if idle is None else idle

    def read(self) -> None:
        """Read what was printed since the last look."""
        self._seen, lines = self.tree.output.since(self._seen)
        if lines:
            self.known = self.known._replace(printed=printed_in(lines, self.known.printed))

    @property
    def speaks_http(self) -> bool:
        """Whether it must answer over HTTP: its project's files show it, or it prints such an address of its own."""
        return self.awaited.speaks_http or self._prints_own

    def servers(self) -> list[Listening]:
        """The sockets of its own that may be its servers, the likeliest first."""
        found = own_servers(listeners_of(self.tree, self.table), self.known)
        if found and self._listens_since is None:
            self._listens_since = time.monotonic()
        self._prints_own |= any(at.port in self.known.printed.ports for at in found)
        return found


_UNKNOWN_WORK_SECONDS = 5.0


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


def _looked_until_up(looks: _Looks, halt: threading.Event) -> State:
    tree, awaited, over_since = looks.tree, looks.awaited, None
    while True:
        spent = looks.spent
        looks.read()
        if halt.is_set():
            return State(how="halted", seconds=spent)
        over, sockets = tree.ended, looks.servers()
        over_since = (over_since or time.monotonic()) if over and not sockets else over_since
        if over_since and not sockets and _is_over(tree, tree.processes(), over_since):
            return State(how="ended", seconds=spent)
        was_looked = looks.activity.look()
        up = _by_what_it_shows(looks, sockets)
        if up is None and looks.settling and was_looked and not over:
            up = _settled(looks.settling.look(), looks, sockets)
        if up:
            return up
        if spent > awaited.within:
            return State(how="late", seconds=spent, at=sockets[0] if sockets else None)
        looks.waiting.pause(spent)


def _by_what_it_shows(looks: _Looks, sockets: Sequence[Listening]) -> State | None:
    awaited = looks.awaited
    if awaited.draws and not looks.tree.ended and not (awaited.line or awaited.file or awaited.get):
        return State(how="up", seconds=looks.spent, by="it runs, and its window is looked for")
    if awaited.line or awaited.file:
        return _by_sign(looks, sockets)
    return _by_answer(looks, sockets)


def _is_over(tree: Tree, processes: list[int], over_since: float) -> bool:
    """What a command that has ended left behind may be a server on its way up, but not after a failure."""
    patience = _AFTER_FAILURE if tree.exit_status else _AFTER_SUCCESS
    return not processes or time.monotonic() - over_since > patience


def _settled(settled: Settled | None, looks: _Looks, sockets: Sequence[Listening]) -> State | None:
    """Up, where it waits for something to do, or serves something other than HTTP; else only settled."""
    spent, serves = looks.spent, looks.awaited.is_server or looks.speaks_http
    if settled is None:
        return None
    if settled.how == "crashed":
        return State(how="settled", seconds=spent, settled=settled)
    if sockets:
        return _settled_listening(settled, looks, sockets)
    if settled.how == "draws":
        by = f"it draws on the whole terminal: “{settled.line}”"
        return None if serves else State(how="up", seconds=spent, by=by, settled=settled)
    if settled.how == "goes-on":
        by = f"it says “{settled.line}” again and again, and goes on"
        return None if serves else State(how="up", seconds=spent, by=by, settled=settled)
    if settled.how == "errs":
        return None if looks.awaited.is_server else State(how="settled", seconds=spent, settled=settled)
    if settled.how in ("silent", "waits") and serves:
        line = next((line for line in looks.tree.output.last(_LINES_OF_TROUBLE) if kind_of(line)), None)
        if line:
            return State(how="settled", seconds=spent, settled=Settled("errs", line.strip()))
        if settled.how == "silent" and (looks.activity.quiet_seconds or 0) < _YET_TO_SERVE_SECONDS:
            return None
    if looks.awaited.is_server:
        return None
    processes = looks.tree.processes()
    paths, ports = without_tools_pipes(here().unix_sockets(processes)), here().udp_ports(processes)
    if settled.how in ("waits", "silent") and (paths or ports):
        where = f"the UNIX socket {paths[0]}" if paths else f"UDP port {ports[0]}"
        return State(how="up", seconds=spent, by=f"it listens on {where}, and has nothing more to do")
    if settled.how == "waits":
        return State(how="up", seconds=spent, by=f"it says “{settled.line}”, and waits", settled=settled)
    return State(how="settled", seconds=spent, settled=settled)


def _settled_listening(settled: Settled, looks: _Looks, sockets: Sequence[Listening]) -> State | None:
    """What accepts connections and answers nothing: another language, or dumb where it is to speak HTTP."""
    spent = looks.spent
    if settled.how in ("goes-on", "errs", "draws") or looks.awaited.is_server:
        return None
    if looks.speaks_http:
        line = f"it has been silent and idle for {_DUMB_SECONDS:g} s"
        return _dumb(line, sockets[0], spent) if looks.listening_seconds > _DUMB_SECONDS else None
    if looks.listening_seconds < _SILENT_SECONDS:
        return None
    if waiting := here().unaccepted(sockets[0].port):
        return _dumb(
            f"it takes no connection: {waiting} {'waits' if waiting == 1 else 'wait'} there", sockets[0], spent
        )
    by = f"it accepts connections on port {sockets[0].port}, and is silent to HTTP"
    return State(how="up", seconds=spent, by=by, at=sockets[0])


_LINES_OF_TROUBLE = 40

_YET_TO_SERVE_SECONDS = 60.0
"""Of no work and no word, that what is known to serve may take before it listens: it may wait for something itself."""

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


def _by_sign(looks: _Looks, sockets: Sequence[Listening]) -> State | None:
    """Up by a line that it printed or a file that it made; where it serves, not before it listens."""
    tree, awaited = looks.tree, looks.awaited
    by = f"printed “{tree.output.found}”" if tree.output.found else None
    if awaited.file and _is_new(awaited.file, looks.begun):
        by = f"made {awaited.file.name}"
    if by is None or (awaited.serves and not sockets):
        return None
    at = sockets[0] if sockets else None
    url = origin(at) if at else None
    return State(how="up", seconds=looks.spent, by=by, at=at, url=url, shown=url, as_asked=True)


def _by_answer(looks: _Looks, sockets: Sequence[Listening]) -> State | None:
    """Up by an answer of one of its own sockets."""
    asking, idle, get = looks.asking, looks.idle_seconds, looks.awaited.get
    asked = may_be_asked(sockets, looks.known, idle)
    asking.ask(asked, looks.known.printed.scheme_of)
    at = chosen(asked, asking.of, looks.known, time.monotonic(), idle)
    told = at and asking.of(at)
    if not at or not told:
        return None
    processes = looks.tree.processes()
    if at not in listeners_of(looks.tree, looks.table):  # once more: it must still be the tree's own
        return None
    how, url = told.language, told.url
    if how and looks.speaks_http and not how.says_what:
        return (
            _dumb("it hangs up on every request", at, looks.spent)
            if looks.listening_seconds > _SILENT_SECONDS
            else None
        )
    is_shared = at.port not in looks.tree.published and looks.table.is_shared(at.port)
    others = strangers(at.port, processes) if is_shared else ()
    person = url if others else re.sub(r"//[^/]*", f"//localhost:{at.port}", url)
    by = f"its own socket answers GET {get} with a success" if get else _LISTENS_AND_ANSWERS
    return State(
        how="up",
        seconds=told.when - looks.started,
        by=how.words if how else by,
        at=at,
        url=None if how else url,
        shown=None if how else person,
        contested=_contesting(at, others),
        answered=how is None,
    )


_LISTENS_AND_ANSWERS = "its own socket listens and answers over HTTP"


def _contesting(at: Listening, others: Sequence[Stranger]) -> tuple[Stranger, ...]:
    """Return strangers that hold the very address that is asked: then it is not known which of them answered."""
    return tuple(each for each in others if each.address in (at.address, asked_address(at)))


def _is_new(file: Path, since: float) -> bool:
    """Whether a file is there and was written since; file systems keep times less exactly than the clock does."""
    try:
        return file.stat().st_mtime >= since - 0.02
    except OSError:
        return False
