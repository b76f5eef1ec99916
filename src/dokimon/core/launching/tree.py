"""A process tree: one command and everything that it starts, from start to end in our hands."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import threading
from collections.abc import Mapping, Sequence
from pathlib import Path

import psutil

from dokimon.core.launching.output import Output

_WARDEN = Path(__file__).with_name("warden.py")


class StartFault(Exception):
    """The command could not be started; the text says why."""


class Tree:
    """A running command below its warden (see `warden.py`). Use `start` to make one and `close` to end it for good."""

    def __init__(self, warden: subprocess.Popen[bytes], control: int, status: int, output: Output) -> None:
        self.output = output
        self._warden = warden
        self._control: int | None = control
        self._status = os.fdopen(status, "rb")
        self._ended = threading.Event()
        self._process = psutil.Process(warden.pid)
        self.pid = 0
        self.exit_status: int | None = None

    @classmethod
    def start(cls, command: Sequence[str], folder: Path, environment: Mapping[str, str], output: Output) -> Tree:
        """Start `command` in `folder`; its output goes to `output`. Raises `StartFault`."""
        if not folder.is_dir():
            raise StartFault(f"there is no folder {folder}")
        control_end, control = os.pipe()
        status, status_end = os.pipe()
        try:
            warden = subprocess.Popen(
                [sys.executable, "-I", "-S", str(_WARDEN), str(control_end), str(status_end), *command],
                cwd=folder,
                env=dict(environment),
                stdin=subprocess.DEVNULL,
                stdout=subprocess.PIPE,
                stderr=subprocess.PIPE,
                pass_fds=(control_end, status_end),
                start_new_session=True,
            )
        except (OSError, ValueError) as wrong:
            os.close(control)
            os.close(status)
            raise StartFault(str(wrong)) from None
        finally:
            os.close(control_end)
            os.close(status_end)
        assert warden.stdout is not None and warden.stderr is not None
        output.follow(warden.stdout)  # type: ignore[arg-type]
        output.follow(warden.stderr)  # type: ignore[arg-type]
        tree = cls(warden, control, status, output)
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
        self._ended.set()

    def wait(self, seconds: float) -> bool:
        """Wait until the command itself has ended, at most `seconds`; return whether it has."""
        return self._ended.wait(seconds)

    @property
    def ended(self) -> bool:
        """Whether the command itself has ended; what it started may live on."""
        return self._ended.is_set()

    def processes(self) -> list[psutil.Process]:
        """Return the living processes of the tree."""
        try:
            below = self._process.children(recursive=True)
        except psutil.Error:
            return []
        return [process for process in below if _lives(process)]

    def interrupt(self) -> None:
        """Do what Ctrl+C in a terminal does: SIGINT to every process of the command's process group.

        Once the command itself is gone, the rest of the tree is interrupted one by one.
        """
        try:
            os.killpg(self.pid, signal.SIGINT)
        except (ProcessLookupError, PermissionError):
            self.send(signal.SIGINT)

    def send(self, number: signal.Signals) -> None:
        """Send a signal to every living process of the tree."""
        for process in self.processes():
            try:
                process.send_signal(number)
            except psutil.Error:
                continue

    def close(self) -> None:
        """Let the warden kill whatever is left, and wait for its end."""
        if self._control is not None:
            os.close(self._control)
            self._control = None
        self._warden.wait()
        self._ended.wait(1.0)
        self.output.wait(1.0)


def _lives(process: psutil.Process) -> bool:
    try:
        return process.status() != psutil.STATUS_ZOMBIE
    except psutil.Error:
        return False


def command_of(process: psutil.Process) -> str:
    """Return the command line of a process, or its name, or a question mark where neither may be read."""
    try:
        return " ".join(process.cmdline()) or process.name()
    except psutil.Error:
        return "?"


def how_ended(status: int | None) -> str:
    """Return an exit status in words; a negative one is the signal that ended the process."""
    if status is None:
        return "ended"
    if status >= 0:
        return f"ended with exit status {status}"
    try:
        return f"was ended by {signal.Signals(-status).name}"
    except ValueError:
        return f"was ended by signal {-status}"
