"""Where something is in a file of the checkout."""

from __future__ import annotations

import msgspec


class Source(msgspec.Struct, frozen=True, omit_defaults=True, forbid_unknown_fields=True):
    """Where something is declared: the file (relative to the root, with `/`), the line (from 1), the quoted text."""

    file: str
    line: int
    text: str

    @property
    def place(self) -> str:
        """The file and the line, as compilers write them: `package.json:12`."""
        return f"{self.file}:{self.line}"
