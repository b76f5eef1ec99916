"""What kind of file it is, by its first bytes, and which processor a program is for."""

from __future__ import annotations

from pathlib import Path

KINDS: dict[str, tuple[bytes, ...]] = {
    "elf": (b"\x7fELF",),
    "pe": (b"MZ",),
    "mach-o": (b"\xcf\xfa\xed\xfe", b"\xce\xfa\xed\xfe", b"\xca\xfe\xba\xbe\x00\x00\x00\x02"),
    "class": (b"\xca\xfe\xba\xbe",),
    "esp-image": (b"\xe9",),
    "wasm": (b"\x00asm",),
    "zip": (b"PK\x03\x04", b"PK\x05\x06"),
    "gzip": (b"\x1f\x8b",),
    "xz": (b"\xfd7zXZ\x00",),
    "png": (b"\x89PNG\r\n\x1a\n",),
    "jpeg": (b"\xff\xd8\xff",),
    "gif": (b"GIF8",),
    "pdf": (b"%PDF-",),
    "sqlite": (b"SQLite format 3\x00",),
    "script": (b"#!",),
    "html": (b"<!doctype html", b"<html"),
    "xml": (b"<?xml",),
}

# ELF header, e_machine (System V ABI, "ELF Header"); the numbers are those of its registry.
_MACHINES = {
    3: "i386", 8: "mips", 20: "powerpc", 21: "powerpc64", 22: "s390x", 40: "arm", 62: "x86_64", 94: "xtensa",
    183: "aarch64", 243: "riscv", 247: "bpf", 258: "loongarch", 83: "avr",
}  # fmt: skip


def kind_of_file(path: Path) -> str | None:
    """Return the kind of a file: one of `KINDS`, `text`, or None."""
    try:
        with path.open("rb") as file:
            beginning = file.read(512)
    except OSError:
        return None
    plain = beginning.lstrip().lower()
    for name, beginnings in KINDS.items():
        if beginning.startswith(beginnings) or (name in ("html", "xml") and plain.startswith(beginnings)):
            return name
    try:
        beginning.decode("utf-8")
    except UnicodeDecodeError as wrong:
        if wrong.start < len(beginning) - 3:
            return None
    return "text" if beginning and b"\0" not in beginning else None


def machine_of(path: Path) -> str | None:
    """Return the processor that an ELF file is for, as `uname -m` names it, or None."""
    try:
        with path.open("rb") as file:
            header = file.read(20)
    except OSError:
        return None
    if len(header) < 20 or not header.startswith(b"\x7fELF"):
        return None
    number = int.from_bytes(header[18:20], "little" if header[5] == 1 else "big")
    return _MACHINES.get(number, f"machine {number}")
