"""The warden: a small process between Dokimon and a run, so that nothing of the run can outlive Dokimon.

Dokimon starts it as `python -I -S warden.py CONTROL STATUS STREAMS OWNS COMMAND...`, the first two being numbers of
inherited pipe ends. STREAMS is `terminal` where its streams are one, which the command then gets as its own, else `pipes`.
It starts the command in a session of its own and writes lines to STATUS: `started PID` or `failed REASON`, later
`ended STATUS`, and `empty` once no child is left. When CONTROL closes, because Dokimon closed it or died in whatever
way, the warden kills what is left and ends.

OWNS says what it can hold together. With `tree` (Linux) every process whose parent ends becomes the warden's child
(prctl(2), PR_SET_CHILD_SUBREAPER), also one that made a session of its own or turned itself into a daemon: the whole
tree stays below the warden. With `marks` (other systems) every process of the tree carries a variable by which it is
found again (`portable.MARK`); only one that clears its environment and leaves its parent escapes.

It runs by itself, before anything of Dokimon could be imported: the standard library only, and little of it. `marks`
needs psutil, and is therefore started without `-S`.
"""

import os
import select
import sys
import time

try:  # what `signal` is made of: that loads enum and collections around it, a quarter of the start of every run
    import _signal as signal  # type: ignore[import-not-found]
except ImportError:
    import signal

_GIVE_UP_SECONDS = 10.0
_PR_SET_PDEATHSIG, _PR_SET_CHILD_SUBREAPER = 1, 36


def _prctl(option: int, value: int) -> None:
    import ctypes

    ctypes.CDLL(None).prctl(option, value, 0, 0, 0)


def _start(command: list[str], *, terminal: bool, owns_tree: bool) -> int:
    """Start the command; return its process id or raise the `OSError` that its start met with."""
    failure, failure_end = os.pipe()  # closes by itself when the command takes over, so that end of file means success
    child = os.fork()
    if child:
        os.close(failure_end)
        with os.fdopen(failure, "rb") as pipe:
            failed = pipe.read()
        if failed:
            os.waitpid(child, 0)
            raise OSError(int(failed), os.strerror(int(failed)))
        return child
    try:
        os.setsid()
        if terminal:
            import fcntl
            import termios

            fcntl.ioctl(0, termios.TIOCSCTTY, 0)
        # Dokimon may itself run with interrupts ignored (a script's background job); its runs must not inherit that.
        for number in (
            signal.SIGINT,
            signal.SIGQUIT,
            signal.SIGTERM,
            signal.SIGHUP,
            signal.SIGPIPE,
            signal.SIGCHLD,
        ):
            signal.signal(number, signal.SIG_DFL)
        signal.pthread_sigmask(signal.SIG_SETMASK, [])
        if owns_tree:
            _prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)
        os.environ["DOKIMON_TREE"] = f"{os.environ.get('DOKIMON_TREE', '')} {os.getppid()}".strip()
        os.execvp(command[0], command)
    except OSError as wrong:
        os.write(failure_end, str(wrong.errno).encode())
    os._exit(127)


def _reap(watched: int, status_pipe: int) -> bool:
    """Collect every child that has ended, report the watched one; return whether any child is left.

    When none is, `empty` is reported: whoever waits for the end of the tree need not look again and again.
    """
    while True:
        try:
            pid, status = os.waitpid(-1, os.WNOHANG)
        except ChildProcessError:
            _say(status_pipe, "empty")
            return False
        if pid == 0:
            return True
        if pid == watched:
            _say(status_pipe, f"ended {os.waitstatus_to_exitcode(status)}")


def _say(pipe: int, line: str) -> None:
    try:
        os.write(pipe, line.encode() + b"\n")
    except OSError:  # Dokimon may be gone: the control pipe says so too
        pass


def _kill(process: int) -> None:
    """Kill a process or, where the number is negative, a group of them; it may be gone or another user's."""
    try:
        os.kill(process, signal.SIGKILL)
    except OSError:
        pass


def _below_or_marked() -> list[int]:
    from dokimon.core.processes.systems.portable import below

    return below(os.getpid())


def _descendants() -> list[int]:
    """Return the process ids below this one, from /proc (proc(5): the fourth field of `stat` is the parent)."""
    children: dict[int, list[int]] = {}
    for name in os.listdir("/proc"):
        if name.isdecimal():
            try:
                with open(f"/proc/{name}/stat", "rb") as file:
                    fields = file.read().rpartition(b")")[2].split()
            except OSError:
                continue
            children.setdefault(int(fields[1]), []).append(int(name))
    found, waiting = [], [os.getpid()]
    while waiting:
        below = children.get(waiting.pop(), [])
        found += below
        waiting += below
    return found


def _kill_all(watched: int, status_pipe: int, *, owns_tree: bool) -> bool:
    """Kill until nothing of the tree is left, and return whether nothing is: what forks meanwhile is caught next time.

    What cannot be killed (a process of another user) is left after a while: Dokimon, or whoever looks, can do no more.
    """
    deadline = time.monotonic() + _GIVE_UP_SECONDS
    has_children = _reap(watched, status_pipe)
    while time.monotonic() < deadline:
        try:
            left = _descendants() if owns_tree else _below_or_marked()
        except OSError:
            left = []
        if has_children and not left:  # no /proc any more: the group of the command is all that can be named
            _kill(-watched)
        for pid in left:
            _kill(pid)
        has_children = _reap(watched, status_pipe)
        if not has_children and (owns_tree or not left):
            return True
        select.select([], [], [], 0.01)
    return False


def main() -> None:
    """Start the command, watch it, and end it with what it started once Dokimon lets go."""
    control, status_pipe, streams, owns, command = int(sys.argv[1]), int(sys.argv[2]), *sys.argv[3:5], sys.argv[5:]
    owns_tree = owns == "tree"
    os.set_inheritable(control, False)
    os.set_inheritable(status_pipe, False)
    if owns_tree:
        _prctl(_PR_SET_CHILD_SUBREAPER, 1)
    else:
        # Before anything is started: what could not be found could not be ended either.
        try:
            _below_or_marked()
        except ImportError as wrong:
            _say(status_pipe, f"failed {wrong}")
            return
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP, signal.SIGPIPE):
        signal.signal(number, signal.SIG_IGN)
    woken, wake = os.pipe()
    os.set_blocking(wake, False)
    signal.set_wakeup_fd(wake, warn_on_full_buffer=False)
    signal.signal(signal.SIGCHLD, lambda *_: None)
    try:
        child = _start(command, terminal=streams == "terminal", owns_tree=owns_tree)
    except OSError as wrong:
        _say(status_pipe, f"failed {wrong.strerror}")
        return
    _say(status_pipe, f"started {child}")
    # The run alone holds its output open from here on, so that its end is the end of the pipes.
    nowhere = os.open(os.devnull, os.O_RDWR)
    for stream in (0, 1, 2):
        os.dup2(nowhere, stream)
    while True:
        ready, _, _ = select.select([control, woken], [], [])
        if woken in ready:
            os.read(woken, 4096)
            _reap(child, status_pipe)
        if control in ready and not os.read(control, 4096):
            sys.exit(0 if _kill_all(child, status_pipe, owns_tree=owns_tree) else 1)


main()
