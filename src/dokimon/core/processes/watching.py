"""What a caller may want to hear of while a smoke check works. Each method may be called from any thread."""

from __future__ import annotations

from collections.abc import Callable

from dokimon.core.processes.masking import Mask


class Watcher:
    """Hears of the work as it goes; this one does nothing with it."""

    def stage(self, subject: str, doing: str) -> None:
        """A new stage begins: whose (a step's title, a run's name), and what is done now."""

    def line(self, text: str) -> None:
        """The stage printed a line (cleaned)."""

    def follower(self, name: str) -> Callable[[str, bool], None] | None:
        """Return who wants to hear every line of the run or step of this name (and whether it is for errors), or None."""
        return None

    def note(self, text: str) -> None:
        """Something happened that is worth a line of its own."""

    def beside(self, name: str) -> Watcher:
        """Return who hears of one of several pieces of work that go on side by side, until its `over` is called."""
        return Beside(self, name)

    def over(self) -> None:
        """The work that this one hears of is over."""


class Beside(Watcher):
    """Hands on what it hears, with the name of its piece of work in front."""

    def __init__(self, watcher: Watcher, name: str) -> None:
        self._watcher, self._name = watcher, name

    def stage(self, subject: str, doing: str) -> None:
        self._watcher.stage(f"{self._name}: {subject}", doing)

    def note(self, text: str) -> None:
        self._watcher.note(f"{self._name}: {text}")

    def line(self, text: str) -> None:
        self._watcher.line(text)

    def follower(self, name: str) -> Callable[[str, bool], None] | None:
        return self._watcher.follower(f"{self._name}: {name}")


class MaskingWatcher(Watcher):
    """Hands on to another what it hears, with secrets masked. Lines that were printed are masked where they are read."""

    def __init__(self, watcher: Watcher, mask: Mask) -> None:
        self._watcher, self._mask = watcher, mask

    def stage(self, subject: str, doing: str) -> None:
        self._watcher.stage(self._mask.masked_text(subject), self._mask.masked_text(doing))

    def note(self, text: str) -> None:
        self._watcher.note(self._mask.masked_text(text))

    def line(self, text: str) -> None:
        self._watcher.line(text)

    def follower(self, name: str) -> Callable[[str, bool], None] | None:
        return self._watcher.follower(self._mask.masked_text(name))
