"""Shims: small stand-ins that version managers put on PATH and that start another program by the folder they are in."""

from __future__ import annotations

from pathlib import Path

_LARGEST_SCRIPT = 4096


def manager_of(program: Path, real: Path) -> str | None:
    """Return what stands behind the shim `program` ("pyenv"), or None when it is the tool itself.

    A shim is a link to a program of another name (`cargo` that is `rustup`), or a short shell script in a folder
    named `shims` that hands over to another program.
    """
    if real.name in ("rustup", "volta-shim", "proto-shim") and program.name != real.name:
        return real.name.removesuffix("-shim")
    if program.parent.name != "shims":
        return None
    try:
        with real.open("rb") as file:
            head = file.read(_LARGEST_SCRIPT)
    except OSError:
        return None
    for name in (b"pyenv", b"nodenv", b"rbenv", b"asdf", b"mise", b"goenv", b"jenv"):
        if name in head or f".{name.decode()}" in str(program):
            return name.decode()
    return "a version manager" if head.startswith(b"#!") and b"exec " in head else None
