"""What a run prints of its own addresses: those of pages, ports by their number, and ports of tools beside it."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import NamedTuple

from dokimon.core.expressions import expression

_URL = expression(
    r"(https?)://(?:\[[0-9a-f:]{0,40}\]|[^\s/:\"'<>()\[\]]{1,200}):(\d{2,5})(/[^\s\"'<>()\[\]{}`|\\]{0,200})?",
    re.IGNORECASE,
)
_NUMBER = expression(r"(?:\bports?\b\D{0,12}|[:=]\s?)(\d{4,5})(?![\d.:-])", re.IGNORECASE)
_TOOLS = expression(
    r"(?:[Dd]ebugger listening on|DevTools listening on) ws://\S{1,200}?:(\d{2,5})"
    r"|Listening for transport dt_socket at address: (?:\S{1,200}:)?(\d{2,5})"
)
_MOST = 200
_ENDS = ".,;:!?*…"
"""What stands behind an address in a sentence."""


class Address(NamedTuple):
    """An address over HTTP as it was printed: `http` or `https`, the port, the path (`/` where none was)."""

    scheme: str
    port: int
    path: str


class Printed(NamedTuple):
    """What was printed so far: addresses in their order, each once; ports by number; ports of debuggers and the like."""

    addresses: tuple[Address, ...] = ()
    numbers: frozenset[int] = frozenset()
    tools: frozenset[int] = frozenset()

    @property
    def ports(self) -> frozenset[int]:
        """The ports of all addresses over HTTP."""
        return frozenset(each.port for each in self.addresses)

    def scheme_of(self, port: int) -> str | None:
        """Return the scheme of the address with this port, where one was printed."""
        return next((each.scheme for each in self.addresses if each.port == port), None)

    def paths_of(self, port: int) -> tuple[str, ...]:
        """Return the paths that were printed with this port, but for that of the root page."""
        return tuple(each.path for each in self.addresses if each.port == port and each.path != "/")


NOTHING = Printed()


def printed_in(lines: Iterable[str], before: Printed = NOTHING) -> Printed:
    """Return what `lines` print, added to what was printed `before`."""
    addresses, numbers, tools = dict.fromkeys(before.addresses), set(before.numbers), set(before.tools)
    for line in lines:
        if ":" not in line and "port" not in line.lower() and "=" not in line:
            continue
        for scheme, port, path in _URL.findall(line):
            if len(addresses) < _MOST:
                addresses[Address(scheme.lower(), int(port), _plain(path))] = None
        if len(numbers) < _MOST:
            numbers.update(int(number) for number in _NUMBER.findall(line))
        tools.update(int(first or second) for first, second in _TOOLS.findall(line))
    return Printed(tuple(addresses), frozenset(numbers), frozenset(tools))


def _plain(path: str) -> str:
    return path.partition("#")[0].rstrip(_ENDS) or "/"
