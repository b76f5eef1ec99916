"""What all runs of one smoke check share."""

from __future__ import annotations

import threading
import time
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import msgspec

from dokimon.core.diagnosis.diagnosing import Look
from dokimon.core.processes.logs import Logs
from dokimon.core.processes.ports import Ports
from dokimon.core.processes.watching import Watcher
from dokimon.core.report.model import Finding

WATCHED_SECONDS = 2.0
"""How long a run is watched after it was up: some die of what they find out only then."""

UNCHANGED_SHARE = 0.25
"""Of that time, where all is as it was when it last passed: what it would die of was not there then."""

AFTER_CHECKS_SECONDS = 0.25
"""How long it is watched after its checks in any case: it may die of what they asked."""


class RunContext(msgspec.Struct, frozen=True, kw_only=True):
    """What a run is carried out in: the variables, who may halt it, who hears of it, where its output is kept.

    `root` is that of the checkout. `facts` are the values that checks have found out, by run and name.
    `words` fill braces in commands and variables of runs that come after others: `{tides.url}`, `{tides.port}`.
    `looks` are what a diagnosis can be made fuller with, `unmet` the needs that this machine does not meet. Without
    `checking` a run that is up is only kept up.
    A browser that is here `may_render` a page that nobody asked to be rendered.
    `ports` are those that smoke checks side by side give out together. `begun` is when all this began (`time.monotonic`).
    A run is watched for `watched_seconds` from when it was up, and for `after_checks_seconds` from its last check; for a
    share of that where all is `unchanged` since it last passed, which may be found out only while it runs.
    """

    environment: Mapping[str, str]
    halt: threading.Event
    watcher: Watcher
    logs: Logs
    root: Path
    facts: dict[tuple[str, str], Any] = msgspec.field(default_factory=dict)
    words: Mapping[str, str] = {}
    looks: Mapping[str, Look] = {}
    unmet: tuple[Finding, ...] = ()
    checking: bool = True
    may_render: bool = True
    unchanged: threading.Event = msgspec.field(default_factory=threading.Event)
    ports: Ports = msgspec.field(default_factory=Ports)
    begun: float = msgspec.field(default_factory=time.monotonic)
    watched_seconds: float = WATCHED_SECONDS
    after_checks_seconds: float = AFTER_CHECKS_SECONDS

    @property
    def spent(self) -> float:
        """The seconds since all this began."""
        return round(time.monotonic() - self.begun, 3)
