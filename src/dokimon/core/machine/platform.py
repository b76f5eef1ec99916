"""What differs between operating systems, in one place and named."""

from __future__ import annotations

import os
import stat
import sys
from collections.abc import Mapping
from pathlib import Path

WINDOWS = sys.platform == "win32"
LINUX = sys.platform.startswith("linux")

PROGRAMS_FOLDER = "Scripts" if WINDOWS else "bin"
"""Where a Python environment keeps its programs."""


def path_folders(environment: Mapping[str, str], here: Path) -> list[tuple[Path, bool]]:
    """Return PATH's folders in order, each with whether it is written as an absolute path.

    POSIX.1-2017 §8.3: an empty entry is the current folder, and a relative one starts there.
    """
    entries = environment.get("PATH", os.defpath).split(os.pathsep)
    return [(here / entry, bool(entry) and Path(entry).is_absolute()) for entry in entries]


def program_names(command: str) -> list[str]:
    """Return the file names that a command may have in a folder of PATH."""
    if not WINDOWS:
        return [command]
    endings = os.environ.get("PATHEXT", ".COM;.EXE;.BAT;.CMD").lower().split(";")
    return [command + ending for ending in endings]


def is_program(path: Path) -> bool:
    """Whether `path` is a plain file that may be executed."""
    try:
        return stat.S_ISREG(path.stat().st_mode) and os.access(path, os.X_OK)
    except OSError:
        return False


def identity(path: Path | str) -> tuple[int, int] | str:
    """Return the identity of a file, by which two paths are compared: device and inode, else the path itself."""
    try:
        status = os.stat(path)  # noqa: PTH116 (asked thousands of times)
    except OSError:
        return str(path)
    return (status.st_dev, status.st_ino) if status.st_ino else str(path)


def shell_command(command: str) -> list[str]:
    """Return the argument list that runs a command line in the system's shell."""
    return ["cmd.exe", "/d", "/s", "/c", command] if WINDOWS else ["/bin/sh", "-c", command]


def system_name() -> str:
    """Return the operating system: `linux`, `macos`, `windows`, or what Python calls it."""
    return {"darwin": "macos", "win32": "windows"}.get(sys.platform, "linux" if LINUX else sys.platform)


ARCHITECTURES = {
    "x86_64": ("x64", "amd64", "x86-64"),
    "amd64": ("x64", "x86_64", "x86-64"),
    "aarch64": ("arm64",),
    "arm64": ("aarch64",),
    "i686": ("ia32", "x86"),
}
"""Other names of an architecture, as ecosystems have them."""


def architecture_name() -> str:
    """Return the machine's architecture as the system names it (`x86_64`, `arm64`)."""
    return os.uname().machine if not WINDOWS else os.environ.get("PROCESSOR_ARCHITECTURE", "?").lower()


def is_loopback(address: str) -> bool:
    """Whether only this machine reaches the address (RFC 6890: 127.0.0.0/8 and ::1). A name is not an address."""
    import ipaddress

    try:
        literal = ipaddress.ip_address(address)
    except ValueError:
        return False
    mapped = getattr(literal, "ipv4_mapped", None)
    return (mapped or literal).is_loopback


def loopback_addresses(host: str) -> tuple[str, ...]:
    """Return the addresses by which a host is asked: those of `localhost`, or a literal one; none of another machine.

    No name is resolved: whoever wrote it would decide where the question goes.
    """
    if host == "localhost":
        return ("127.0.0.1", "::1")
    return (host,) if is_loopback(host) else ()


def runs_foreign(machine: str) -> bool:
    """Whether this kernel hands programs of another kind to an emulator (Linux: binfmt_misc)."""
    handlers = Path("/proc/sys/fs/binfmt_misc")
    names = ("WSLInterop", "wine", "windows") if machine == "MZ" else (f"qemu-{machine}",)
    return any((handlers / name).exists() for name in names)


def own_folder(kind: str, environment: Mapping[str, str]) -> Path | None:
    """Return the folder that is Dokimon's own for a `kind` of file (`cache`, `config`, `state`); None without a home that
    is there.

    Linux: XDG Base Directory Specification, which two lines follow faster than a library loads.
    """
    if not LINUX:
        import platformdirs

        of = platformdirs.PlatformDirs("dokimon", appauthor=False)
        return Path({"cache": of.user_cache_dir, "state": of.user_state_dir}.get(kind, of.user_config_dir))
    named, home = environment.get(f"XDG_{kind.upper()}_HOME", ""), environment.get("HOME", "")
    if not named.startswith("/"):
        if not home.startswith("/"):
            return None
        named = f"{home}/.{kind}"
        if kind == "state":
            return Path(home, ".local/state/dokimon") if os.path.isdir(home) else None  # noqa: PTH112 (fast)
    # A home that is not there is not made: it would be somebody else's surprise.
    return Path(named, "dokimon") if os.path.isdir(os.path.dirname(named)) else None  # noqa: PTH112, PTH120 (fast)
