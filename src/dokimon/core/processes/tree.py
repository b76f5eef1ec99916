"""A process tree: one command and everything that it starts, from start to end in our hands."""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import IO

from dokimon.core.faults import Fault
from dokimon.core.processes.output import Output
from dokimon.core.processes.picture import Picture
from dokimon.core.processes.process_table import process_table, reaps_orphans

_LOOK_EVERY = 0.02
_CLOSE_SECONDS = 3.0

_WARDEN = Path(__file__).with_name("warden.py")


class StartFault(Fault):
    """The command could not be started; the reason says why."""


class Tree:
    """A running command below its warden (see `warden.py`). Use `start` to make one and `close` to end it for good.

    `lost_warden` says that somebody killed the warden: what was known of the tree was killed then.
    """

    def __init__(
        self, warden: subprocess.Popen[bytes], control: int, status: int, output: Output, keyboard: int | None
    ) -> None:
        self.output = output
        self._warden = warden
        self._control: int | None = control
        self._status = os.fdopen(status, "rb")
        self._keyboard = keyboard
        self._below = process_table()
        self._picture = Picture(warden.pid)
        self._left: tuple[str, ...] | None = None
        self._ended = threading.Event()
        self._empty = threading.Event()
        self.pid = 0
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
        control_end, control = os.pipe()
        status, status_end = os.pipe()
        streams = _Streams(terminal, keyboard)
        owns, isolated = ("tree", ["-I", "-S"]) if reaps_orphans() else ("marks", ["-I"])
        try:
            warden = subprocess.Popen(
                [
                    sys.executable, *isolated, str(_WARDEN), str(control_end), str(status_end),
                    "terminal" if terminal else "pipes", owns, *command,
                ],
                cwd=folder,
                env={**environment, **({"TERM": "xterm-256color"} if terminal else {})},
                stdin=streams.stdin,
                stdout=streams.stdout,
                stderr=streams.stderr,
                pass_fds=(control_end, status_end),
                start_new_session=True,
            )  # fmt: skip
        except (OSError, ValueError) as wrong:
            os.close(control)
            os.close(status)
            streams.close()
            raise StartFault(str(wrong)) from None
        finally:
            os.close(control_end)
            os.close(status_end)
            streams.close_child_ends()
        for number, stream in enumerate(streams.read_from(warden)):
            output.follow(stream, is_error=number > 0)
        tree = cls(warden, control, status, output, streams.keyboard(warden))
        word, _, rest = tree._status.readline().decode().strip().partition(" ")
        if word != "started":
            tree.close()
            raise StartFault(f"{command[0]}: {rest or 'it could not be started'}")
        tree.pid = int(rest)
        threading.Thread(target=tree._watch, daemon=True).start()
        return tree

    def _watch(self) -> None:
        for line in self._status:
            word, _, rest = line.decode().strip().partition(" ")
            if word == "ended":
                self.exit_status = int(rest)
                self._ended.set()
            elif word == "empty":
                self._empty.set()
        if self._control is not None:  # somebody killed the warden: nobody else ends the run now
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
        if reaps_orphans():
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
        found = self._below(self._warden.pid)
        self._picture.add(found)
        return found

    def is_gone(self) -> bool:
        """Whether no process of the tree is left. Its exit status is known then; it may come a moment later."""
        return not self.processes() and self._ended.wait(1.0)

    def press(self, keys: str) -> bool:
        """Send keys to the run as if they were typed; return whether there was anyone to send them to."""
        if self._keyboard is None:
            return False
        try:
            os.write(self._keyboard, keys.encode())
        except OSError:
            return False
        return True

    def interrupt(self) -> bool:
        """Do what Ctrl+C in a terminal does: SIGINT to every process of the command's process group.

        Once the command itself is gone, the rest of the tree is interrupted one by one. Return whether any was.
        """
        try:
            os.killpg(self.pid, signal.SIGINT)
        except (ProcessLookupError, PermissionError):
            return self.send(signal.SIGINT)
        return True

    def send(self, number: signal.Signals) -> bool:
        """Send a signal to every living process of the tree; return whether any of them may be sent one."""
        sent = False
        for pid in self.processes():
            with contextlib.suppress(OSError):
                os.kill(pid, number)
                sent = True
        return sent

    def wake_warden(self) -> None:
        """Let a warden go on that somebody stopped (SIGSTOP): it tells nothing and kills nothing then."""
        with contextlib.suppress(OSError):
            self._warden.send_signal(signal.SIGCONT)

    def close(self) -> tuple[str, ...]:
        """Let the warden kill whatever is left, and wait for its end; return what could not be ended, in words.

        A warden that does not end in time, because somebody stopped it or something cannot be killed, is killed itself.
        """
        if self._left is not None:
            return self._left
        self.processes()
        self.wake_warden()
        if self._control is not None:
            control, self._control = self._control, None
            os.close(control)
        try:
            self._warden.wait(_CLOSE_SECONDS)
        except subprocess.TimeoutExpired:
            self._warden.kill()
            self._warden.wait()
        self._left = ()
        if self._warden.returncode:  # it was killed, or gave up
            self._picture.end()
            self._left = self._picture.in_words()
        self._picture.forget()
        self._ended.wait(1.0)
        self.output.wait(1.0)
        self.output.close()
        if self._keyboard is not None:
            with contextlib.suppress(OSError):
                os.close(self._keyboard)
            self._keyboard = None
        return self._left


class _Streams:
    """The ends of a run's streams: two pipes for its output and perhaps one for keys, or one terminal for all three."""

    def __init__(self, terminal: bool, keyboard: bool) -> None:
        self._master: int | None = None
        self._slave: int | None = None
        self.stdin: int = subprocess.PIPE if keyboard else subprocess.DEVNULL
        self.stdout: int = subprocess.PIPE
        self.stderr: int = subprocess.PIPE
        if terminal:
            self._master, self._slave = os.openpty()
            _set_size(self._slave)
            self.stdin = self.stdout = self.stderr = self._slave

    def close_child_ends(self) -> None:
        if self._slave is not None:
            os.close(self._slave)
            self._slave = None

    def close(self) -> None:
        self.close_child_ends()
        if self._master is not None:
            os.close(self._master)
            self._master = None

    def read_from(self, warden: subprocess.Popen[bytes]) -> list[IO[bytes]]:
        """Return the streams to read the output from."""
        if self._master is not None:
            return [os.fdopen(os.dup(self._master), "rb")]
        assert warden.stdout is not None and warden.stderr is not None
        return [warden.stdout, warden.stderr]

    def keyboard(self, warden: subprocess.Popen[bytes]) -> int | None:
        """Return the file descriptor for keys, or None where the run reads none."""
        if self._master is not None:
            return self._master
        if warden.stdin is None:
            return None
        number = os.dup(warden.stdin.fileno())
        warden.stdin.close()
        return number


def _set_size(terminal: int) -> None:
    """A terminal of no size makes some programs draw nothing: tty_ioctl(4), struct winsize."""
    import fcntl
    import struct
    import termios

    fcntl.ioctl(terminal, termios.TIOCSWINSZ, struct.pack("HHHH", 40, 120, 0, 0))
