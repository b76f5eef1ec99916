"""An address as a QR code in the terminal, for the camera of a telephone: `dokimon smoke --keep --qr`."""

from __future__ import annotations

_HALVES = {(True, True): "█", (True, False): "▀", (False, True): "▄", (False, False): " "}
"""Two modules, one over the other, share a character; what is light is drawn, as terminals are mostly dark."""
_QUIET_ZONE = 2
"""Modules around the code: ISO/IEC 18004 asks for four, readers of screens do with two."""


def drawn(address: str) -> list[str]:
    """Return the lines that show `address` as a QR code; raises `ModuleNotFoundError` without the extra `qr`."""
    import segno

    rows = [[not dark for dark in row] for row in segno.make(address, micro=False).matrix_iter(border=_QUIET_ZONE)]
    if len(rows) % 2:
        rows.append([False] * len(rows[0]))
    return [
        "".join(_HALVES[pair] for pair in zip(upper, lower, strict=True))
        for upper, lower in zip(rows[::2], rows[1::2], strict=True)
    ]
