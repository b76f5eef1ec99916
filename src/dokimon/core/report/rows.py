"""The rows of a history. Apart from records, which load the whole report: a history is shown without it."""

from __future__ import annotations

import msgspec


class Row(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True):
    """What a history shows of one record.

    `at` is RFC 3339 in UTC. `folder` is that of the project below the root of the checkout (`.` for the root itself; an
    old record has none). `plan` tells one plan from another, `machine` one machine from another: only times of the same
    plan on the same machine are compared. `passed` are the runs that passed. Times are in seconds: `prepare`, `start` (until
    it was up), `check` and `stop` are sums over all steps and runs, `up` and `answer` those of the slowest run.
    """

    at: str
    command: str
    verdict: str
    dokimon: str
    name: str
    folder: str | None = None
    commit: str | None = None
    branch: str | None = None
    changed: bool | None = None
    interrupted: bool = False
    machine: str | None = None
    plan: str | None = None
    wrong: str | None = None
    passed: tuple[str, ...] = ()
    tools: dict[str, str] = {}
    seconds: float | None = None
    verify: float | None = None
    prepare: float | None = None
    start: float | None = None
    check: float | None = None
    stop: float | None = None
    up: float | None = None
    answer: float | None = None

    @property
    def is_good(self) -> bool:
        """Whether all was met and passed, and nobody ended it before."""
        return self.verdict in ("met", "passed") and not self.interrupted
