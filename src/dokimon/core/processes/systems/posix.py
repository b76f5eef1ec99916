"""What Linux and macOS share: a warden with pipes or a terminal, signals to groups, locks of files."""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import sys
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import IO, TYPE_CHECKING

if TYPE_CHECKING:
    from dokimon.core.processes.systems.values import Start

STOP_SIGNALS = ("SIGINT", "SIGTERM", "SIGKILL")

_WARDEN = Path(__file__).with_name("warden.py")
_TERMINAL_SIZE = (40, 120)
"""Rows and columns: a terminal of no size makes some programs draw nothing."""


class Warded:
    """A command below a warden (see `warden.py`), held by a pipe: when that closes, the warden ends what is left."""

    def __init__(self, warden: subprocess.Popen[bytes], control: int, status: int, streams: _Streams) -> None:
        self.pid = warden.pid
        self.streams = streams.read_from(warden)
        self._warden = warden
        self._control: int | None = control
        self._status = os.fdopen(status, "rb")
        self._keyboard = streams.keyboard(warden)

    @property
    def is_released(self) -> bool:
        return self._control is None

    @property
    def went_wrong(self) -> bool:
        return bool(self._warden.returncode)

    def told(self) -> Iterator[tuple[str, str]]:
        for line in self._status:
            word, _, rest = line.decode().strip().partition(" ")
            yield word, rest

    def press(self, keys: bytes) -> bool:
        if self._keyboard is None:
            return False
        try:
            os.write(self._keyboard, keys)
        except OSError:
            return False
        return True

    def wake(self) -> None:
        with contextlib.suppress(OSError):
            self._warden.send_signal(signal.SIGCONT)

    def release(self) -> None:
        if self._control is not None:
            control, self._control = self._control, None
            os.close(control)

    def wait(self, seconds: float) -> None:
        try:
            self._warden.wait(seconds)
        except subprocess.TimeoutExpired:
            self._warden.kill()
            self._warden.wait()

    def close(self) -> None:
        if self._keyboard is not None:
            with contextlib.suppress(OSError):
                os.close(self._keyboard)
            self._keyboard = None


def launch(start: Start, owns: str) -> Warded:
    """Start a command below a warden, which `owns` the tree itself or finds it by `marks`."""
    control_end, control = os.pipe()
    status, status_end = os.pipe()
    streams = _Streams(start.terminal, start.keyboard)
    # Without `-S` it has site-packages, which finding processes by their marks takes (psutil).
    isolated = ["-I", "-S"] if owns == "tree" else ["-I"]
    command = [
        sys.executable, *isolated, str(_WARDEN), str(control_end), str(status_end),
        "terminal" if start.terminal else "pipes", owns, *start.command,
    ]  # fmt: skip
    try:
        warden = subprocess.Popen(
            command,
            cwd=start.folder,
            env={**start.environment, **({"TERM": "xterm-256color"} if start.terminal else {})},
            stdin=streams.stdin,
            stdout=streams.stdout,
            stderr=streams.stderr,
            pass_fds=(control_end, status_end),
            start_new_session=True,
        )
    except (OSError, ValueError):
        os.close(control)
        os.close(status)
        streams.close()
        raise
    finally:
        os.close(control_end)
        os.close(status_end)
        streams.close_child_ends()
    return Warded(warden, control, status, streams)


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

    def read_from(self, warden: subprocess.Popen[bytes]) -> Sequence[IO[bytes]]:
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
    """tty_ioctl(4), struct winsize."""
    import fcntl
    import struct
    import termios

    fcntl.ioctl(terminal, termios.TIOCSWINSZ, struct.pack("HHHH", *_TERMINAL_SIZE, 0, 0))


def interrupt(pid: int) -> bool:
    """Send SIGINT to every process of a command's process group, as a terminal does."""
    try:
        os.killpg(pid, signal.SIGINT)
    except (ProcessLookupError, PermissionError):
        return False
    return True


def send(pid: int, name: str) -> bool:
    """Send a signal to a process."""
    try:
        os.kill(pid, signal.Signals[name])
    except OSError:
        return False
    return True


def is_alive(pid: int) -> bool:
    """Whether a process of this number is there, also another user's."""
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True


def kill_session(process: subprocess.Popen[bytes]) -> None:
    """Kill a process that was started with `start_new_session`, and all that stayed in its process group."""
    try:
        os.killpg(process.pid, signal.SIGKILL)
    except (ProcessLookupError, PermissionError):
        process.kill()


class Started:
    """A process that is known by when it started: another of the same number did at another time."""

    def __init__(self, pid: int) -> None:
        self.pid = pid
        self._started = self._start()

    def _start(self) -> float | None:
        import psutil  # late, here and below: it is wanted only where no kernel's handle is to be had

        try:
            return psutil.Process(self.pid).create_time()
        except (psutil.Error, OSError):
            return None

    def lives(self) -> bool:
        import psutil

        try:
            process = psutil.Process(self.pid)
            same = self._started is not None and process.create_time() == self._started
            return same and process.status() != psutil.STATUS_ZOMBIE
        except (psutil.Error, OSError):
            return False

    def kill(self) -> bool:
        try:
            os.kill(self.pid, signal.SIGKILL)
        except ProcessLookupError:
            return True
        except OSError:
            return False
        return True

    def forget(self) -> None:
        """Nothing is held."""


def hold(path: Path) -> int | None:
    """Hold a file by flock(2) alone: filelock takes 60 ms to load, as long as a tenth of a smoke check."""
    import fcntl

    handle = os.open(path, os.O_RDWR | os.O_CREAT | getattr(os, "O_CLOEXEC", 0), 0o600)
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        os.close(handle)
        return None
    return handle


def let_go(handle: int) -> None:
    """Let go of a file that is held."""
    os.close(handle)
