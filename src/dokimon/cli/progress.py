"""What one sees while a smoke check works: one living line on a terminal, plain lines in a pipe. On standard error."""

from __future__ import annotations

import os
import sys
import threading
import time
from collections.abc import Callable
from types import TracebackType
from typing import TYPE_CHECKING

from dokimon.core.processes.watching import Watcher

if TYPE_CHECKING:
    from rich.live import Live
    from rich.text import Text

_TELL_EVERY = 20.0
"""Seconds after which a pipe hears that a long stage still goes on."""


def watch(*, quiet: bool, follow: bool, no_color: bool) -> Progress:
    """Return the progress that fits where standard error goes; with `follow` every line is shown as it comes."""
    if follow:
        return FollowingProgress()
    if quiet:
        return Progress()
    dumb = os.environ.get("TERM") == "dumb"
    return LiveProgress(no_color) if sys.stderr.isatty() and not dumb else PlainProgress()


class Progress(Watcher):
    """Shows nothing; the others show what they hear between entering and leaving."""

    def __enter__(self) -> Progress:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, value: BaseException | None, trace: TracebackType | None
    ) -> None:
        pass

    def say(self, text: str) -> None:
        """Show a line that stays, also with --quiet."""
        sys.stderr.write(f"{text}\n")  # in one piece: others may write at the same time
        sys.stderr.flush()


class PlainProgress(Progress):
    """A line for each stage, and one now and then while a stage takes long."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._stage, self._since, self._told = "", time.monotonic(), time.monotonic()

    def stage(self, subject: str, doing: str) -> None:
        with self._lock:
            self._stage, self._since = subject, time.monotonic()
            self._told = self._since
        self.say(f"{subject}: {doing}")

    def note(self, text: str) -> None:
        self.say(f"  {text}")

    def line(self, text: str) -> None:
        now = time.monotonic()
        with self._lock:
            if now - self._told < _TELL_EVERY:
                return
            self._told = now
        self.say(f"{self._stage}: {now - self._since:.0f} s so far; last line: {text}")


class FollowingProgress(PlainProgress):
    """Each printed line after the name of its run or step; `!` marks standard error."""

    def line(self, text: str) -> None:
        pass

    def follower(self, name: str) -> Callable[[str, bool], None]:
        return lambda text, is_error: self.say(f"{name} {'!' if is_error else '|'} {text}")


class LiveProgress(Progress):
    """One line that is drawn again and again: the stage, the seconds so far, the last line of output.

    What goes on side by side has a line each.
    """

    def __init__(self, no_color: bool) -> None:
        from dokimon.cli.showing import console

        self._console = console(sys.stderr, no_color)
        self._live: Live | None = None
        self._own = _Line(self, "")
        self._beside: tuple[_Line, ...] = ()

    def __enter__(self) -> LiveProgress:
        from rich.live import Live

        self._live = Live(
            console=self._console, get_renderable=self._draw, refresh_per_second=8, transient=True,
            redirect_stdout=False, redirect_stderr=False,
        )  # fmt: skip
        self._live.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, value: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._live:
            self._live.stop()

    def stage(self, subject: str, doing: str) -> None:
        self._own.stage(subject, doing)

    def say(self, text: str) -> None:
        self._console.print(text)

    def line(self, text: str) -> None:
        self._own.line(text)

    def beside(self, name: str) -> Watcher:
        made = _Line(self, name)
        self._beside = (*self._beside, made)
        return made

    def end(self, line: Watcher) -> None:
        """Draw a line no longer."""
        self._beside = tuple(each for each in self._beside if each is not line)

    def _draw(self) -> Text:
        from rich.text import Text

        lines = [text for each in self._beside or (self._own,) if (text := each.drawn())]
        return Text("\n", no_wrap=True, overflow="ellipsis").join(lines)


class _Line(Watcher):
    """What is drawn of one piece of work."""

    def __init__(self, progress: LiveProgress, name: str) -> None:
        self._progress, self._name = progress, name
        self._subject, self._doing, self._last = "", "", ""
        self._since = time.monotonic()

    def stage(self, subject: str, doing: str) -> None:
        self._subject, self._doing, self._last = subject, doing, ""
        self._since = time.monotonic()

    def line(self, text: str) -> None:
        self._last = text

    def note(self, text: str) -> None:
        self._progress.note(text)

    def over(self) -> None:
        self._progress.end(self)

    def drawn(self) -> Text | None:
        """Return the line, and what was printed last below it; None before the first stage."""
        from rich.text import Text

        if not self._subject:
            return None
        spent = time.monotonic() - self._since
        text = Text()
        text.append(f"{self._name}: " if self._name else "").append(self._subject, style="bold")
        text.append(f"  {spent:.1f} s  ", style="cyan").append(self._doing)
        if self._last:
            text.append(f"\n    {self._last}", style="dim")
        return text
