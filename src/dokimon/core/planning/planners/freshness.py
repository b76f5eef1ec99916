"""Whether what a build makes is older than what it is made from."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path

_SKIPPED = frozenset({"node_modules", "target", "build", "_build", "vendor", "__pycache__"})
_MOST_FILES = 20_000


def older_than(artefact: Path, sources: Sequence[Path]) -> str | None:
    """Return why `made` must be built: it is missing, or one of the files in `sources` is newer. None when it is current."""
    try:
        built = artefact.stat().st_mtime_ns
    except OSError:
        return f"there is no {artefact.name} yet"
    for path in _files(sources):
        try:
            if path.stat().st_mtime_ns > built:
                return f"{path.name} is newer than {artefact.name}"
        except OSError:
            continue
    return None


def _files(sources: Sequence[Path]) -> Iterator[Path]:
    """Yield the files in `sources` and below them, but not those that tools made or hid."""
    waiting, count = list(sources), 0
    while waiting and count < _MOST_FILES:
        path = waiting.pop()
        if path.is_dir() and not path.is_symlink():
            try:
                below = sorted(path.iterdir())
            except OSError:
                continue
            waiting += [each for each in below if each.name not in _SKIPPED and not each.name.startswith(".")]
        elif path.is_file():
            count += 1
            yield path
