"""Whether a server takes a WebSocket: the opening handshake of RFC 6455 §4, and no word after it."""

from __future__ import annotations

import base64
import http.client
import os
from urllib.parse import urlsplit

_SECONDS = 3.0
_SWITCHING = 101


def takes_websockets(origin: str, path: str) -> bool:
    """Whether the server at `origin` answers a handshake at `path` with 101."""
    parts = urlsplit(origin)
    if parts.scheme != "http" or not parts.hostname or not parts.port:
        return False
    from dokimon.core.processes.deadline import Deadline

    link = http.client.HTTPConnection(parts.hostname, parts.port, timeout=_SECONDS)
    headers = {
        "Upgrade": "websocket",
        "Connection": "Upgrade",
        "Sec-WebSocket-Version": "13",
        "Sec-WebSocket-Key": base64.b64encode(os.urandom(16)).decode(),
        "Origin": origin,
    }
    try:
        with Deadline(_SECONDS) as deadline:
            link.connect()
            deadline.watch(link.sock)
            link.request("GET", path, headers=headers)
            status = link.getresponse().status
            if status == _SWITCHING and link.sock:
                link.sock.sendall(b"\x88\x80\0\0\0\0")  # a close frame, masked as a client's must be (§5.5.1)
        return status == _SWITCHING and not deadline.over
    except (OSError, http.client.HTTPException, ValueError):
        return False
    finally:
        link.close()
