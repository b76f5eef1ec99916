"""What a server speaks that does not answer HTTP: a greeting of its own, or nothing that is known here."""

from __future__ import annotations

import re
import socket

from dokimon.core.text import clean

_GREETINGS = (
    (rb"220[ -].*(?:SMTP|ESMTP|mail)", "SMTP"), (rb"220[ -]", "FTP or SMTP"), (rb"SSH-\d", "SSH"),
    (rb".{4}\x0a\d+\.\d+\.\d+", "MySQL's protocol"), (rb"\+OK", "POP3"), (rb"\* OK", "IMAP"),
    (rb"-ERR|\+PONG|-NOAUTH", "Redis"),
    (rb"INFO \{", "NATS"), (rb"AMQP", "AMQP"), (rb"RFB \d", "VNC"),
)  # fmt: skip
"""How servers begin to speak (RFC 5321, 959, 4253, 1939, 9051; the protocols of the products)."""

_HTTP2_PREFACE = b"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n\0\0\0\4\0\0\0\0\0"
"""RFC 9113, section 3.4, with an empty SETTINGS frame behind it."""


def greeting_of(address: str, port: int, seconds: float = 0.4) -> str | None:
    """Return what a server says by itself, in words; None where it waits for the other side to begin."""
    try:
        with socket.create_connection((address, port), seconds) as link:
            link.settimeout(seconds)
            data = link.recv(256)
    except OSError:
        return None
    if not data:
        return None
    known = next((name for pattern, name in _GREETINGS if re.match(pattern, data, re.DOTALL)), None)
    return f"greets as {known} does" if known else f"greets with “{clean(data.decode('utf-8', 'replace').strip(), 60)}”"


def speaks_http2(address: str, port: int, seconds: float = 1.0) -> bool:
    """Whether a server answers HTTP/2 without an upgrade, as those of gRPC do: with a SETTINGS frame."""
    try:
        with socket.create_connection((address, port), seconds) as link:
            link.settimeout(seconds)
            link.sendall(_HTTP2_PREFACE)
            data = link.recv(64)
    except OSError:
        return False
    return len(data) >= 9 and data[3] == 4
