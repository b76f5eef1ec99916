"""A process tree: one command and everything that it starts, from start to end in our hands."""

from __future__ import annotations

import threading
import time
from collections.abc import Mapping, Sequence
from pathlib import Path

from dokimon.core.faults import Fault
from dokimon.core.processes.output import Output
from dokimon.core.processes.picture import Picture
from dokimon.core.processes.systems.face import here
from dokimon.core.processes.systems.values import Start, Warded

_LOOK_EVERY = 0.02
_CLOSE_SECONDS = 3.0


class StartFault(Fault):
    """The command could not be started; the reason says why."""


class Tree:
    """A running command below its warden (see `systems/warden.py`). Use `start` to make one and `close` to end it for good.

    `published` are ports that a container engine, which is no process of the tree, opens for it. `lost_warden` says that
    somebody killed the warden: what was known of the tree was killed then.
    """

    def __init__(self, warded: Warded, output: Output) -> None:
        self.output = output
        self._system = here()
        self._warded = warded
        self._told = warded.told()
        self._picture = Picture(warded.pid)
        self._left: tuple[str, ...] | None = None
        self._ended = threading.Event()
        self._empty = threading.Event()
        self.pid = 0
        self.published: frozenset[int] = frozenset()
        self.exit_status: int | None = None
        self.lost_warden = False

    @classmethod
    def start(
        cls,
        command: Sequence[str],
        folder: Path,
        environment: Mapping[str, str],
        output: Output,
        *,
        terminal: bool = False,
        keyboard: bool = False,
    ) -> Tree:
        """Start `command` in `folder`; its output goes to `output`. Raises `StartFault`.

        With `terminal` it finds itself on one, for programs that behave only there; with `keyboard` keys can be sent to it.
        """
        if not folder.is_dir():
            raise StartFault(f"there is no folder {folder}")
        start = Start(command, str(folder), dict(environment), terminal, keyboard)
        system = here()
        try:
            warded = system.launch(start, "tree" if system.REAPS_ORPHANS else "marks")
        except (OSError, ValueError) as wrong:
            raise StartFault(str(wrong)) from None
        for number, stream in enumerate(warded.streams):
            output.follow(stream, is_error=number > 0)
        tree = cls(warded, output)
        word, rest = next(tree._told, ("", ""))
        if word != "started":
            tree.close()
            raise StartFault(f"{command[0]}: {rest or 'it could not be started'}")
        tree.pid = int(rest)
        threading.Thread(target=tree._watch, daemon=True).start()
        return tree

    def _watch(self) -> None:
        for word, rest in self._told:
            if word == "ended":
                self.exit_status = int(rest)
                self._ended.set()
            elif word == "empty":
                self._empty.set()
        if not self._warded.is_released:  # somebody killed the warden: nobody else ends the run now
            self.lost_warden = True
            self._picture.end()
        self._ended.set()
        self._empty.set()

    def wait(self, seconds: float) -> bool:
        """Wait until the command itself has ended, at most `seconds`; return whether it has."""
        return self._ended.wait(seconds)

    @property
    def ended(self) -> bool:
        """Whether the command itself has ended; what it started may live on."""
        return self._ended.is_set()

    def wait_empty(self, seconds: float) -> bool:
        """Wait until no process of the tree is left, at most `seconds`; return whether none is."""
        if self._system.REAPS_ORPHANS:
            return self._empty.wait(seconds)
        # The warden is not told when what left it ends: look again and again.
        deadline = time.monotonic() + seconds
        while self.processes():
            if time.monotonic() >= deadline:
                return False
            time.sleep(min(_LOOK_EVERY, seconds))
        return True

    def processes(self) -> list[int]:
        """Return the ids of the living processes of the tree."""
        found = self._system.below(self._warded.pid)
        self._picture.add(found)
        return found

    def is_gone(self) -> bool:
        """Whether no process of the tree is left. Its exit status is known then; it may come a moment later."""
        return not self.processes() and self._ended.wait(1.0)

    def press(self, keys: str) -> bool:
        """Send keys to the run as if they were typed; return whether there was anyone to send them to."""
        return self._warded.press(keys.encode())

    def send(self, signal: str) -> bool:
        """Send one of the system's `STOP_SIGNALS` to the tree; return whether any process may be sent it.

        The first one does what Ctrl+C in a terminal does, to the command and its group; once the command itself is gone,
        and with the others, the living processes of the tree are sent it one by one.
        """
        if signal == self._system.STOP_SIGNALS[0] and self._system.interrupt(self.pid):
            return True
        sent = [self._system.send(pid, signal) for pid in self.processes()]
        return any(sent)

    def wake_warden(self) -> None:
        """Let a warden go on that somebody stopped (SIGSTOP): it tells nothing and kills nothing then."""
        self._warded.wake()

    def close(self) -> tuple[str, ...]:
        """Let the warden kill whatever is left, and wait for its end; return what could not be ended, in words.

        A warden that does not end in time, because somebody stopped it or something cannot be killed, is killed itself.
        """
        if self._left is not None:
            return self._left
        self.processes()
        self.wake_warden()
        self._warded.release()
        self._warded.wait(_CLOSE_SECONDS)
        self._left = ()
        if self._warded.went_wrong:
            self._picture.end()
            self._left = self._picture.in_words()
        self._picture.forget()
        self._ended.wait(1.0)
        self.output.wait(1.0)
        self.output.close()
        self._warded.close()
        return self._left
