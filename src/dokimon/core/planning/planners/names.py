"""The names by which a project goes, as far as its folder tells them."""

from __future__ import annotations

from pathlib import Path

from dokimon.core.expressions import expression

_RELEASE = expression(r"[-_]v?\d[\w.+~-]*$")


def folder_names(folder: Path) -> set[str]:
    """Return the name of a folder in small letters, with and without a release behind it (`quay-1.2`)."""
    name = folder.name.lower()
    return {name, _RELEASE.sub("", name)}
