"""The lines of a Makefile's recipes: make prints them before it carries them out, which is no output of a program."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from dokimon.core.files import text_of

_MAKES = {"make", "gmake"}
_LARGEST = 256 * 1024


def recipe_lines(folder: Path, argv: Sequence[str]) -> frozenset[str]:
    """Return the recipe lines that `make` would print in `folder`; none where something else is started."""
    words = [word for part in argv for word in part.split()]
    if not _MAKES & {Path(word).name for word in words[:3]}:
        return frozenset()
    names = ("GNUmakefile", "makefile", "Makefile")
    text = next((found for name in names if (found := text_of(folder / name, _LARGEST))), "")
    recipes = (line.strip() for line in text.splitlines() if line.startswith("\t"))
    return frozenset(line.lstrip("+-") for line in recipes if not line.startswith("@"))
