"""The certificate of a run that speaks HTTPS: who issued it, for which names, until when, whether it is trusted."""

from __future__ import annotations

import socket
import ssl
import time
from typing import Any
from urllib.parse import urlsplit

from dokimon.core.report.model import Check, CheckVerdict
from dokimon.core.text import clean

_SECONDS = 5.0
_NO_CHECK_TIME = 0x200000
"""X509_V_FLAG_NO_CHECK_TIME of OpenSSL (X509_VERIFY_PARAM_set_flags(3)): what has expired is to be read too."""


def check_certificate(origin: str) -> list[Check]:
    """Look at the certificate at an HTTPS address; nothing for a plain one.

    One made for development is accepted on loopback, with a note. One that has expired fails.
    """
    where = urlsplit(origin)
    if where.scheme != "https" or where.hostname is None:
        return []
    expected = "one that is valid now"
    try:
        held = _certificate(where.hostname, where.port or 443)
    except (OSError, ValueError) as wrong:
        return [
            Check(name="certificate", verdict="unsure", expected=expected, seen=clean(f"it cannot be read: {wrong}"))
        ]
    until = ssl.cert_time_to_seconds(held["notAfter"])
    begins = ssl.cert_time_to_seconds(held["notBefore"])
    names = [value for kind, value in held.get("subjectAltName", ()) if kind in ("DNS", "IP Address")]
    day = time.strftime("%Y-%m-%d", time.gmtime(until))
    seen = f"issued by {_name(held, 'issuer')} for {', '.join(names) or _name(held, 'subject')}, until {day}"
    distrust = _distrust("localhost" if where.hostname in ("127.0.0.1", "::1") else where.hostname, where)
    seen += "; this system trusts it" if distrust is None else f"; this system does not trust it ({distrust})"
    now = time.time()
    verdict: CheckVerdict = "passed" if begins <= now <= until else "failed"
    if now > until:
        seen = f"it has expired: {seen}"
    elif distrust is not None:
        seen += ", which is accepted here on loopback; a browser asks"
    return [Check(name="certificate", verdict=verdict, expected=expected, seen=clean(seen))]


def _name(held: dict[str, Any], which: str) -> str:
    parts = {key: value for part in held.get(which, ()) for key, value in part}
    return str(parts.get("commonName") or parts.get("organizationName") or "nobody")


def _certificate(host: str, port: int) -> dict[str, Any]:
    """Return what the certificate says: only one that is trusted is decoded, so this one alone is trusted for a moment."""
    plain = ssl.create_default_context()
    plain.check_hostname, plain.verify_mode = False, ssl.CERT_NONE
    raw, _ = _handshake(host, port, plain)
    if raw is None:
        raise ValueError("there is none")
    trusting = ssl.create_default_context(cadata=ssl.DER_cert_to_PEM_cert(raw))
    trusting.check_hostname = False
    trusting.verify_flags |= ssl.VERIFY_X509_PARTIAL_CHAIN | ssl.VerifyFlags(_NO_CHECK_TIME)
    _, held = _handshake(host, port, trusting)
    if not held:
        raise ValueError("it says nothing")
    return held


def _distrust(name: str, where: Any) -> str | None:
    """Return why this system would not trust the certificate for `name`, or None."""
    try:
        _handshake(where.hostname, where.port or 443, ssl.create_default_context(), name)
    except ssl.SSLCertVerificationError as wrong:
        return wrong.verify_message
    except OSError as wrong:
        return str(wrong)
    return None


def _handshake(
    host: str, port: int, context: ssl.SSLContext, name: str | None = None
) -> tuple[bytes | None, dict[str, Any]]:
    """Return the certificate of the other side, as it is and decoded (only where it was verified)."""
    with (
        socket.create_connection((host, port), timeout=_SECONDS) as link,
        context.wrap_socket(link, server_hostname=name or host) as wrapped,
    ):
        return wrapped.getpeercert(binary_form=True), dict(wrapped.getpeercert() or {})
