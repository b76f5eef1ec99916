"""A database, cache or queue that the project needs: does it answer in its own protocol, and as which version?"""

from __future__ import annotations

from collections.abc import Iterator
from typing import ClassVar

from dokimon.core.checks.context import CheckContext
from dokimon.core.checks.measuring import Measure, judge_value
from dokimon.core.checks.spec import CheckSpec
from dokimon.core.report.model import Check, CheckVerdict
from dokimon.core.text import clean


class Service(CheckSpec, frozen=True, kw_only=True):
    """`service = "mariadb"` that listens on `port`, perhaps of one of the versions `version`."""

    kind_name: ClassVar[str] = "service"

    service: str = ""
    host: str = "127.0.0.1"
    port: int | str = 0
    version: str | None = None

    @property
    def default_name(self) -> str:
        """The name of the check where the project gives it none."""
        return f"{self.service} on port {self.port}"

    def problems(self) -> Iterator[tuple[str, str]]:
        """The port must be given."""
        if not self.port:
            yield "", 'a "service" needs the "port" that it listens on'

    def look(self, context: CheckContext) -> list[Check]:
        """Look at the run, and return what was seen."""
        return _look(self, context)


def _look(spec: Service, context: CheckContext) -> list[Check]:
    """Let the service greet, and compare what it says of itself with what is wanted."""
    port = context.filled(str(spec.port))
    verdict, seen = _answer(spec, port, context)
    expected = f"{spec.service} {spec.version or ''}".strip() + " answers"
    name = clean(f"{spec.service} on port {port}", 80)
    return [Check(name=name, verdict=verdict, expected=clean(expected), seen=clean(seen))]


def _answer(spec: Service, port: str, context: CheckContext) -> tuple[CheckVerdict, str]:
    from dokimon.core.machine.service_protocols import is_the_product
    from dokimon.core.machine.services import greet

    if not port.isdecimal():
        return "failed", f'"{port}" is not a port number'
    greeting = greet(spec.service, spec.host, int(port), context.asker)
    if not greeting.listens:
        return "failed", f"nothing answers at {spec.host}:{port}: {greeting.reason}"
    if greeting.product is None:
        return "unsure", f"something listens there, and {greeting.reason}"
    if not is_the_product(spec.service, greeting.product):
        return "failed", f"{greeting.product} answers"
    seen = f"{greeting.product} {greeting.version or ''}".strip() + " answers"
    if greeting.reason:
        seen += f"; {greeting.reason}"
    if spec.version is None:
        return "passed", seen
    if greeting.version is None:
        return "unsure", seen
    return judge_value(greeting.version, Measure(version=spec.version)).verdict, seen
