"""Why a file in a place where commands are looked for cannot be run: one reason per cause."""

from __future__ import annotations

import os
from collections.abc import Mapping
from pathlib import Path
from typing import Literal

import msgspec

from dokimon.core.files import text_of
from dokimon.core.machine.platform import LINUX, architecture_name, is_program, path_folders, runs_foreign
from dokimon.core.text import clean

UnrunnableKind = Literal[
    "dangling", "no file", "not executable", "unreadable", "no interpreter", "other architecture", "other system",
    "no loader",
    "line ends",
]  # fmt: skip


class Unrunnable(msgspec.Struct, frozen=True):
    """The kind of fault, and the sentence after "this file …"."""

    kind: UnrunnableKind
    says: str


# e_machine of the ELF header (System V ABI, chapter 4), as uname calls the machines.
_ELF_MACHINES = {3: "i686", 40: "arm", 62: "x86_64", 183: "aarch64", 243: "riscv64", 21: "ppc64le", 22: "s390x"}
_MOST_OF_A_SCRIPT = 64 * 1024
_ALSO_RUNS = {"x86_64": {"i686"}, "aarch64": {"arm"}}
_MACHO = {b"\xcf\xfa\xed\xfe", b"\xca\xfe\xba\xbe", b"\xfe\xed\xfa\xcf", b"\xce\xfa\xed\xfe"}


def why_unrunnable(path: Path, environment: Mapping[str, str]) -> Unrunnable | None:
    """Return why `path` cannot be run here, or None when nothing speaks against it. Reads its first bytes."""
    try:
        real = path.resolve(strict=True)
    except (OSError, RuntimeError):
        target = _link_target(path)
        return Unrunnable("dangling", f"is a link that leads nowhere{f' (to {target})' if target else ''}")
    if not real.is_file():
        return Unrunnable("no file", "is not a file")
    if not is_program(path):
        return Unrunnable("not executable", "is there but not executable")
    try:
        with real.open("rb") as file:
            head = file.read(4096)
    except OSError:
        return None  # a program that may be run and not read is none of our business
    if head.startswith(b"#!"):
        return _fault_of_script(head, environment)
    return _fault_of_binary(head) if LINUX else None


def is_script(path: Path) -> bool:
    """Whether a file starts as a script does: what it says of itself may come from any other file."""
    try:
        with path.open("rb") as file:
            return file.read(2) == b"#!"
    except OSError:
        return True


def script_of(path: Path) -> str:
    """Return the text of a script, the beginning of a long one; nothing where the file is no script."""
    return text_of(path, _MOST_OF_A_SCRIPT) if path.is_file() and is_script(path) else ""


def _link_target(path: Path) -> str | None:
    try:
        return clean(str(path.readlink()), 200)
    except OSError:
        return None


def _fault_of_script(head: bytes, environment: Mapping[str, str]) -> Unrunnable | None:
    """The first line names the interpreter (execve(2), "Interpreter scripts"); env(1) looks its argument up on PATH."""
    words = head[2:].partition(b"\n")[0].decode("utf-8", "replace").split()
    if not words:
        return None
    interpreter = words[0]
    if not interpreter.startswith("/"):
        return None
    if head.partition(b"\n")[0].endswith(b"\r"):
        says = "is a script whose lines end as on Windows: the carriage return is taken for a part of its interpreter's name"
        return Unrunnable("line ends", says)
    if not Path(interpreter).exists():
        return Unrunnable("no interpreter", f"is a script for {clean(interpreter, 200)}, which is not here")
    if Path(interpreter).name != "env":
        return None
    named = next((word for word in words[1:] if not word.startswith("-") and "=" not in word), "")
    if (
        not named
        or "/" in named
        or any(is_program(folder / named) for folder, _ in path_folders(environment, Path("/")))
    ):
        return None
    return Unrunnable("no interpreter", f"is a script for {clean(named, 80)}, which no folder on PATH has")


def _fault_of_binary(head: bytes) -> Unrunnable | None:
    if head[:4] in _MACHO:
        return Unrunnable("other system", "is built for macOS, and this is Linux")
    if head[:2] == b"MZ":
        return None if runs_foreign("MZ") else Unrunnable("other system", "is built for Windows, and this is Linux")
    if head[:4] != b"\x7fELF" or len(head) < 64:
        return None
    order: Literal["little", "big"] = "little" if head[5] == 1 else "big"
    machine = _ELF_MACHINES.get(int.from_bytes(head[18:20], order))
    here = architecture_name()
    if machine and machine != here and machine not in _ALSO_RUNS.get(here, ()) and not runs_foreign(machine):
        return Unrunnable("other architecture", f"is built for {machine}, and this machine is {here}")
    loader = _loader(head, order)
    if loader and not Path(loader).exists():
        library = " (musl, another C library)" if "musl" in loader else ""
        return Unrunnable("no loader", f"needs {clean(loader, 200)}{library}, which is not here")
    return None


def _loader(head: bytes, order: Literal["little", "big"]) -> str | None:
    """Return the program interpreter that an ELF file names (PT_INTERP; System V ABI, chapter 5), if its head holds it."""
    wide = head[4] == 2  # ELFCLASS64
    at = int.from_bytes(head[32:40] if wide else head[28:32], order)
    size, count = (int.from_bytes(head[i : i + 2], order) for i in ((54, 56) if wide else (42, 44)))
    for entry in (head[at + i * size : at + (i + 1) * size] for i in range(min(count, 64))):
        if len(entry) < size or int.from_bytes(entry[:4], order) != 3:
            continue
        start, length = ((8, 32), (4, 16))[not wide]
        width = 8 if wide else 4
        begin = int.from_bytes(entry[start : start + width], order)
        end = begin + int.from_bytes(entry[length : length + width], order)
        return os.fsdecode(head[begin:end].rstrip(b"\0")) or None
    return None
