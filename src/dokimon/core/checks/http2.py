"""Servers that speak HTTP/2 alone, as those of gRPC do: asked in it from the first byte on (RFC 9113 §3.3).

Where it has the health service of gRPC (grpc/grpc, "GRPC Health Checking Protocol"), that is believed.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any

import msgspec

from dokimon.core.checks.context import CheckContext
from dokimon.core.checks.fetching import Response
from dokimon.core.report.model import Check

if TYPE_CHECKING:
    import httpx

    from dokimon.core.processes.deadline import Deadline

_SECONDS = 5.0
_HEALTH = "/grpc.health.v1.Health/Check"
_OF_THE_WHOLE = b"\x00\x00\x00\x00\x00"
"""A message of gRPC: not compressed, and empty, which asks for the server as a whole."""
_SERVING, _NOT_SERVING = b"\x08\x01", b"\x08\x02"
_OK, _UNIMPLEMENTED = 200, "12"


def refuses_http1(answer: Response) -> bool:
    """Whether a server says that it speaks no HTTP/1."""
    return answer.status in (400, 426, 505) and b"HTTP/2" in answer.body[:400]


def over_http2(check: Check, context: CheckContext) -> Check:
    """Return the check of a root page that was refused over HTTP/1, asked again over HTTP/2."""
    import httpx

    from dokimon.core.processes.deadline import Deadline

    try:
        with (
            Deadline(_SECONDS) as deadline,
            httpx.Client(http1=False, http2=True, verify=False, timeout=_SECONDS, trust_env=False) as client,
        ):
            with client.stream("GET", f"{context.origin}/", extensions={"trace": _watched(deadline)}) as root:
                status = root.status_code
            health = _health(client, context.origin or "")
    except httpx.HTTPError:
        return check
    seen = f"it speaks HTTP/2 alone, and answers in it: {status}"
    if status >= 500:
        return msgspec.structs.replace(check, verdict="failed", seen=f"{seen}: the server itself says that it failed")
    if health is False:
        return msgspec.structs.replace(
            check, verdict="failed", seen=f"{seen}; its gRPC health says that it is not serving"
        )
    if health:
        seen += "; its gRPC health says that it is serving"
    return msgspec.structs.replace(check, verdict="passed", seen=seen)


def _watched(deadline: Deadline) -> Callable[[str, Mapping[str, Any]], None]:
    """Return what hands the connection to the deadline: both requests go over one."""

    def trace(event: str, info: Mapping[str, Any]) -> None:
        if event in ("connection.connect_tcp.complete", "connection.start_tls.complete"):
            deadline.watch(info["return_value"].get_extra_info("socket"))

    return trace


def _health(client: httpx.Client, origin: str) -> bool | None:
    """Whether the health service of gRPC says that the server serves; None where it has none."""
    headers = {"content-type": "application/grpc", "te": "trailers"}
    url = f"{origin}{_HEALTH}"
    with client.stream("POST", url, headers=headers, content=_OF_THE_WHOLE) as answer:
        if answer.status_code != _OK or answer.headers.get("grpc-status") == _UNIMPLEMENTED:
            return None
        said = next(answer.iter_raw(), b"")
    return {_SERVING: True, _NOT_SERVING: False}.get(said[5:7])
