"""What a check may look at: the run as it is at this moment, and what earlier checks have found out."""

from __future__ import annotations

import threading
from collections.abc import Callable, Mapping, MutableMapping
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from dokimon.core.report.model import Listening
from dokimon.core.words import filled, filled_for_shell

if TYPE_CHECKING:
    from http.cookiejar import CookieJar

    from dokimon.core.machine.asking import Asker
    from dokimon.core.processes.output import Output


class Cookies:
    """The cookies of one run; Python's jar is loaded when something is first asked over HTTP (it takes 30 ms)."""

    @cached_property
    def jar(self) -> CookieJar:
        """The jar that answers fill."""
        from http.cookiejar import CookieJar

        return CookieJar()


class CheckContext(msgspec.Struct, frozen=True, kw_only=True):
    """The surroundings of the checks of one run.

    `origin` is the run's own address, None where it has none; `ended` its exit status and seconds, where it is over.
    `facts` are the values that checks have found, by run and name; those of this run also fill braces in later
    checks. `evidence` gives the file that a proof of the named kind (`page.png`) is kept in, None where none can be.
    A browser that is here `may_render` a page that nobody asked to be rendered.
    """

    name: str
    root: Path
    environment: Mapping[str, str]
    halt: threading.Event
    output: Output
    facts: MutableMapping[tuple[str, str], Any]
    evidence: Callable[[str], Path | None]
    listening: Callable[[], tuple[Listening, ...]]
    processes: Callable[[], list[int]]
    asker: Asker
    cookies: Cookies | None = None
    origin: str | None = None
    ended: tuple[int | None, float] | None = None
    display: str | None = None
    words: Mapping[str, str] = {}
    told: list[str] = msgspec.field(default_factory=list)
    may_render: bool = True

    def filled(self, text: str) -> str:
        """Return text with names in braces replaced by values that are known: `{token}`, `{port}`."""
        return filled(text, self.known_words()) if "{" in text else text

    def filled_for_shell(self, command: str) -> str:
        """Return a command line in the same way, each value quoted for the shell."""
        return filled_for_shell(command, self.known_words()) if "{" in command else command

    def known_words(self) -> dict[str, str]:
        """Return the values for braces: facts of this run by their names, those of any run as `run.name`."""
        mine = {name: as_word(value) for (run, name), value in self.facts.items() if run == self.name}
        every = {f"{run}.{name}": as_word(value) for (run, name), value in self.facts.items()}
        return {**self.words, **mine, **every}


def as_word(value: Any) -> str:
    """Return a value as text, fit for a path or a command."""
    from dokimon.core.checks.measuring import as_text

    return as_text(value)
