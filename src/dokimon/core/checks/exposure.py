"""Where a run listens: only at the addresses that are meant, and reachable by others where that is meant."""

from __future__ import annotations

from typing import ClassVar
from urllib.parse import urlsplit

from dokimon.core.checks.context import CheckContext
from dokimon.core.checks.fetching import fetch
from dokimon.core.checks.spec import CheckSpec
from dokimon.core.report.model import Check, Listening
from dokimon.core.text import clean

_SECONDS = 10.0


class Exposure(CheckSpec, frozen=True, kw_only=True):
    """`listens = ["127.0.0.1:4173"]`: all addresses that are meant; each with its port, or for any port without."""

    kind_name: ClassVar[str] = "exposure"
    asks_server: ClassVar[bool] = True

    listens: list[str] = []

    @property
    def default_name(self) -> str:
        """The name of the check where the project gives it none."""
        return "listens"

    def look(self, context: CheckContext) -> list[Check]:
        """Look at the run, and return what was seen."""
        return _look(self, context)


def _look(spec: Exposure, context: CheckContext) -> list[Check]:
    """Compare all listening sockets of the run with those that are meant."""
    meant = [context.filled(each) for each in spec.listens]
    found = context.listening()
    astray = [each for each in found if not any(_is_meant(each, one) for one in meant)]
    silent = [one for one in meant if not any(_is_meant(each, one) for each in found)]
    seen = ", ".join(_shown(each) for each in found) or "it listens nowhere"
    if astray:
        seen += f"; not meant: {', '.join(map(_shown, astray))}"
    if silent:
        seen += f"; nothing listens at {', '.join(silent)}"
    return [
        Check(
            name="listens",
            verdict="failed" if astray or silent else "passed",
            expected=clean(", ".join(meant)),
            seen=clean(seen),
        )
    ]


def _shown(at: Listening) -> str:
    return f"[{at.address}]:{at.port}" if ":" in at.address else f"{at.address}:{at.port}"


def _is_meant(at: Listening, meant: str) -> bool:
    if meant.startswith("["):
        host, _, port = meant[1:].partition("]")
    elif meant.count(":") == 1:
        host, _, port = meant.partition(":")
    else:  # an IPv6 address alone has many colons, and no port
        host, port = meant, ""
    hosts = ("127.0.0.1", "::1") if host == "localhost" else (host,)
    return at.address in hosts and port.lstrip(":") in ("", str(at.port))


def reachable(addresses: tuple[str, ...], origin: str) -> list[Check]:
    """Ask a run that is meant to be reached by others at this machine's own network addresses."""
    expected = "an answer at this machine's own network address"
    if not addresses:
        seen = f"it listens on loopback alone ({urlsplit(origin).netloc}), or this machine is in no network"
        return [Check(name="reachable", verdict="failed", expected=expected, seen=clean(seen))]
    checks = []
    for address in addresses:
        answer = fetch(address.rstrip("/"), "/", seconds=_SECONDS)
        seen = f"{address} {answer.status}" if answer.status else f"{address}: {answer.fault}"
        checks.append(
            Check(
                name="reachable",
                verdict="passed" if answer.status else "failed",
                expected=expected,
                seen=clean(seen),
                seconds=answer.seconds,
            )
        )
    return checks
