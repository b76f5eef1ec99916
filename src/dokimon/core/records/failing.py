"""What a failure names and uses: by this the differences are ranked that may explain it."""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import cached_property
from pathlib import PurePosixPath

from dokimon.core.records.surroundings import commands_in
from dokimon.core.report.model import Prepared, Report, Run
from dokimon.core.report.summary import told_once

_BUILT_ON = {
    "npm": "node", "npx": "node", "yarn": "node", "pnpm": "node", "pip": "python", "composer": "php", "bundle": "ruby",
    "rails": "ruby", "rake": "ruby", "mvn": "java", "mvnw": "java", "gradle": "java", "gradlew": "java", "sbt": "java",
    "cargo": "rustc", "mix": "elixir", "iex": "elixir", "flutter": "dart", "uvicorn": "python", "flask": "python",
    "gunicorn": "python", "poetry": "python", "uv": "python", "javac": "java", "django-admin": "python", "pytest": "python",
}  # fmt: skip
"""What commands run on that start a project."""


class Failing:
    """What does not pass in a report; where nothing failed, what its runs are."""

    def __init__(self, report: Report) -> None:
        everything: list[Run | Prepared] = [*(report.prepared or ()), *(report.runs or ())]
        self._wrong = [each for each in everything if each.verdict in ("failed", "unsure")]
        self._of_use = self._wrong or everything
        self._needs = [each for each in report.requirements if each.verdict not in (None, "met")]
        self._planned = report.plan

    @property
    def is_known(self) -> bool:
        """Whether anything failed, so that it can name and use something."""
        return bool(self._wrong)

    @cached_property
    def said(self) -> str:
        """What the failure says by its causes and reasons."""
        return "\n".join(text for each in self._wrong for text in _said(each))

    @cached_property
    def printed(self) -> str:
        """The same, with the last lines that were printed."""
        return "\n".join([self.said, *(line for each in self._wrong for line in each.last_lines)])

    @cached_property
    def tools(self) -> frozenset[str]:
        """The tools that are used: what the commands are, and what that runs on; and the tools of needs that are not met."""
        lines = [each.command for each in self._of_use if each.command]
        if not lines and self._planned:
            plan = self._planned
            lines = [*(each.command for each in plan.prepare), *(each.command for each in plan.runs)]
        names = {re.sub(r"[\d.]+$", "", PurePosixPath(name).name) for name in commands_in(lines)}
        names |= {each.tool for each in self._needs}
        return frozenset(names | {_BUILT_ON[name] for name in names if name in _BUILT_ON})

    @property
    def ports(self) -> frozenset[int]:
        """The ports that the runs took or wanted."""
        runs = [each for each in self._of_use if isinstance(each, Run)]
        taken = {at.port for run in runs for at in run.listening} | {at.port for run in runs for at in run.strangers}
        planned = {run.port for run in self._planned.runs if isinstance(run.port, int)} if self._planned else set()
        return frozenset(taken | planned)

    def names_tool(self, tool: str) -> bool:
        """Whether the failure says a word of a tool; what it merely printed has most names in it."""
        return _has(self.said, tool)

    def names(self, words: Iterable[str]) -> bool:
        """Whether any of these words stands in what the failure says, or printed last."""
        return any(_has(self.printed, word) for word in words)


def _said(of: Run | Prepared) -> Iterable[str]:
    yield of.reason
    for cause in of.diagnoses:
        if cause.name == "dotenv-missing":  # always told along where an example lies there
            continue
        yield cause.cause
        yield cause.line or ""
        yield from (f"{step.say} {step.command or ''}" for step in cause.remedies)
    if isinstance(of, Run):
        yield from (f"{check.name} {check.seen}" for check in told_once(of.checks) if check.verdict == "failed")


def _has(text: str, word: str) -> bool:
    """Whether a word stands in a text by itself: `node` is not in `nodemon`, `80` not in `8080`."""
    return bool(word) and word in text and bool(re.search(rf"(?<![\w@.-]){re.escape(word)}(?![\w-])", text))
