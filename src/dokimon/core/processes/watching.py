"""What a caller may want to hear of while a smoke check works. Each method may be called from any thread."""

from __future__ import annotations

from collections.abc import Callable


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
