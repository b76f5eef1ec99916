"""The verdict over all, and the exit status that goes with it (DESIGN: commands)."""

from __future__ import annotations

from collections.abc import Container, Iterable, Sequence
from typing import Literal

from dokimon.core.report.model import Check, CheckVerdict, Finding, Prepared, Report, Run, Verdict

UNMET_VERDICTS = frozenset({"unmet", "missing", "off-path", "conflict"})


def counts(finding: Finding, strict: bool) -> bool:
    """Whether a finding has a say in the verdict: advice has only where one is strict."""
    return strict or finding.strength == "required"


def verdict_of_findings(findings: Sequence[Finding], strict: bool) -> Verdict:
    """Return `met`, `unmet` or `unknown` for all findings together; facts ask nothing and have no say."""
    heard = {finding.verdict for finding in findings if counts(finding, strict)}
    if heard & UNMET_VERDICTS:
        return "unmet"
    return "unknown" if "unknown" in heard else "met"


def worst(verdicts: Iterable[CheckVerdict]) -> Literal["failed", "unsure", "passed"]:
    """Return the verdict that several come to: one that failed fails all, else one that is unsure leaves it open."""
    heard = set(verdicts)
    if "failed" in heard:
        return "failed"
    return "unsure" if "unsure" in heard else "passed"


def verdict_of_smoke(
    prepared: Sequence[Prepared], runs: Sequence[Run], checks: Sequence[Check] = (), *, strict: bool = False
) -> Verdict:
    """Return `passed`, `failed` or `unsure` for the steps, the runs and the checks of the checkout together.

    Where one is strict, a check that passed only when it was tried again leaves it unsure.
    """
    heard: set[CheckVerdict] = (
        {step.verdict for step in prepared} | {run.verdict for run in runs} | {check.verdict for check in checks}
    )
    if strict and any(check.attempts for run in runs for check in run.checks if check.verdict == "passed"):
        heard.add("unsure")
    return worst(heard)


def verdict_of_tools(asked: Iterable[str], there: Container[str]) -> Verdict:
    """Return `met` where every tool that was asked about is there, else `unmet`."""
    return "met" if all(name in there for name in asked) else "unmet"


def exit_status(report: Report) -> int:
    """Return the exit status of the invocation that made this report: a report that was saved comes to the same."""
    if report.interrupted:
        return 130
    if report.plan:
        return 0
    heard = {report.verdict}
    if report.command == "smoke":  # what went well although a need is not met (`--anyway`) does not hide that
        heard.add(verdict_of_findings(report.requirements, report.strict))
    if heard & {"failed", "unmet"}:
        return 1
    return 3 if heard & {"unknown", "unsure"} else 0
