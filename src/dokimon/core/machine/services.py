"""Services that listen on this machine: what each says of itself in its own protocol's greeting."""

from __future__ import annotations

import socket

from dokimon.core.machine.asking import Asker
from dokimon.core.machine.platform import loopback_addresses
from dokimon.core.machine.service_protocols import LIMIT_SECONDS, Greeting, protocol_of
from dokimon.core.text import clean


def greet(name: str, host: str, port: int, asker: Asker) -> Greeting:
    """Connect to a service on this machine, and read its version where its protocol has one.

    `name` says which protocol is expected; of a service of another name it is only known whether it listens.
    """
    silent = Greeting(listens=False, reason=f"{clean(host, 80)} is another machine, which is not asked")
    for address in loopback_addresses(host):
        silent = _greet(name, address, port, asker)
        if silent.listens:
            break
    return silent


def _greet(name: str, host: str, port: int, asker: Asker) -> Greeting:
    try:
        with socket.create_connection((host, port), timeout=LIMIT_SECONDS) as link:
            link.settimeout(LIMIT_SECONDS)
            speak = protocol_of(name)
            if speak is None:
                return Greeting(listens=True, reason=f"Dokimon does not know the protocol of {clean(name, 40)}")
            return speak(link, host, port, asker)
    except TimeoutError:
        return Greeting(listens=True, reason=f"it did not greet within {LIMIT_SECONDS:g} seconds")
    except (ConnectionResetError, BrokenPipeError):
        return Greeting(listens=True, reason="it hung up")
    except (OSError, UnicodeError) as wrong:
        return Greeting(listens=False, reason=getattr(wrong, "strerror", None) or str(wrong))
