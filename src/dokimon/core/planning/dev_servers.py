"""Development servers of the Node.js world, told by the script that starts them; what is known of them is data."""

from __future__ import annotations

import re
import tomllib
from functools import cache
from pathlib import Path

import msgspec

_DATA = Path(__file__).with_name("dev_servers.toml")
_PORT = re.compile(r"(?:--port[ =]|-p[ =]?|\bPORT=)(\d{2,5})\b")


class DevServer(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A server: a pattern of scripts that start it, and the port that it usually takes."""

    command: str
    port: int | None = None


@cache
def _known() -> tuple[DevServer, ...]:
    return tuple(msgspec.convert(tomllib.loads(_DATA.read_text("utf-8"))["server"], list[DevServer]))


def dev_server(script: str) -> DevServer | None:
    """Return the development server that a script starts; None where it starts none that is known."""
    return next((each for each in _known() if re.search(each.command, script)), None)


def port_in(script: str) -> int | None:
    """Return the port that a script names for its server."""
    named = _PORT.search(script)
    return int(named[1]) if named else None
