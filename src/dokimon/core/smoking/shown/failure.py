"""What is looked at of a failure: what was printed, and where the project lies."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import islice
from pathlib import Path
from typing import NamedTuple

from dokimon.core.expressions import expression

_MOST_WORDS = 400


class Failure(NamedTuple):
    """What is looked at: the lines of the output, and the folder of the project, in the checkout at `root`."""

    lines: Sequence[str]
    root: Path
    folder: Path

    def line_with(self, *texts: str) -> str | None:
        """The last line that holds all of these texts."""
        return next((line.strip() for line in reversed(self.lines) if all(text in line for text in texts)), None)

    def paths(self) -> Iterator[Path]:
        """The paths that the output names, each once, those in the checkout."""
        words = dict.fromkeys(word for line in self.lines for word in _WORD.findall(line) if len(word) < 200)
        for word in islice(words, _MOST_WORDS):
            path = self.folder / word
            if ".." not in Path(word).parts and path.is_relative_to(self.root):
                yield path


_WORD = expression(r"(?:[\w.@~-]*/)*[\w.@~-]*\w")
