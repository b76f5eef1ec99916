"""Text for a terminal without Rich, for commands that are over before Rich would be loaded."""

from __future__ import annotations

import os
import shutil
import sys
from typing import TextIO

from dokimon.cli.showing import PIPE_WIDTH

_CODES = {"bold": "1", "dim": "2", "green": "32", "yellow": "33", "bold red": "1;31", "bold yellow": "1;33"}
"""Select Graphic Rendition (ECMA-48, section 8.3.117)."""


class Plain:
    """Styles text for a file: only on a terminal, and only if colours are not turned off."""

    def __init__(self, file: TextIO, no_color: bool) -> None:
        off = no_color or bool(os.environ.get("NO_COLOR")) or os.environ.get("TERM") == "dumb"
        self._styles = file.isatty() and not off
        columns = shutil.get_terminal_size((PIPE_WIDTH, 24)).columns
        self.width = columns if sys.stdout.isatty() or os.environ.get("COLUMNS", "").isdecimal() else PIPE_WIDTH

    def styled(self, text: str, style: str) -> str:
        """Return a text in a style, or as it is."""
        code = _CODES.get(style)
        return f"\x1b[{code}m{text}\x1b[0m" if code and self._styles and text else text
