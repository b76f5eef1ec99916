"""A database, cache or queue that the project needs: does it answer in its own protocol, and as which version?"""

from __future__ import annotations

from dokimon.core.checks.measuring import Measure, judge_value
from dokimon.core.checks.scene import Scene
from dokimon.core.checks.wanted import Wanted
from dokimon.core.report.model import Check
from dokimon.core.text import clean


class Service(Wanted, frozen=True, kw_only=True):
    """`service = "mariadb"` that listens on `port`, perhaps of one of the versions `version`."""

    service: str = ""
    host: str = "127.0.0.1"
    port: int | str = 0
    version: str | None = None


def title(wanted: Service) -> str:
    """Return what the check is called where nobody named it."""
    return f"{wanted.service} on port {wanted.port}"


def check(wanted: Service, scene: Scene) -> list[Check]:
    """Let the service greet, and hold what it says of itself against what is wanted."""
    from dokimon.core.machine.services import greet, is_the_product

    port = scene.filled(str(wanted.port))
    name = clean(f"{wanted.service} on port {port}", 80)
    expected = clean(f"{wanted.service} {wanted.version or ''}".strip() + " answers")
    if not port.isdigit():
        return [Check(name, "failed", expected, clean(f'"{port}" is no port'))]
    greeting = greet(wanted.service, wanted.host, int(port), scene.asker)
    if not greeting.listens:
        return [Check(name, "failed", expected, clean(f"nothing answers at {wanted.host}:{port}: {greeting.reason}"))]
    if greeting.product is None:
        return [Check(name, "unsure", expected, clean(f"something listens there, and {greeting.reason}"))]
    if not is_the_product(wanted.service, greeting.product):
        return [Check(name, "failed", expected, clean(f"{greeting.product} answers"))]
    seen = f"{greeting.product} {greeting.version or ''}".strip() + " answers"
    if greeting.reason:
        seen += f"; {greeting.reason}"
    if wanted.version is None:
        return [Check(name, "passed", expected, clean(seen))]
    if greeting.version is None:
        return [Check(name, "unsure", expected, clean(seen))]
    judged = judge_value(greeting.version, Measure(version=wanted.version))
    return [Check(name, judged.verdict, expected, clean(seen))]
