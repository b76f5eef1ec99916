"""Copying the files of a checkout into a clone at little cost."""

from __future__ import annotations

from pathlib import Path

from dokimon.core.processes.systems.face import here


def copy_cheaply(source: Path, target: Path) -> None:
    """Copy a file with its mode and times, or a link as a link; where the file system can, the two share their blocks.

    Raises `OSError`.
    """
    import shutil

    if source.is_symlink():
        shutil.copy2(source, target, follow_symlinks=False)
        return
    try:
        with source.open("rb") as old, target.open("xb") as new:
            here().share_content(old, new)
        shutil.copystat(source, target)
    except OSError:
        target.unlink(missing_ok=True)
        shutil.copy2(source, target)
