"""What a report comes to, in one line: what failed first, with its cause, and how many of how many are fine."""

from __future__ import annotations

from collections.abc import Sequence

from dokimon.core.report.folding import subject_of
from dokimon.core.report.model import Check, Finding, Prepared, Report, Run
from dokimon.core.report.outcome import counts
from dokimon.core.text import counted


def first_wrong(report: Report) -> str | None:
    """Return what failed, or stays open, first, and its likeliest cause; None where nothing did."""
    if report.from_clone and report.from_clone.lacks:
        return f"not from a clean clone: {report.from_clone.lacks[0]}"
    for verdicts in (("failed",), ("unsure",)):
        for step in report.prepared or ():
            if step.verdict in verdicts:
                return f"{step.title}: {_why(step)}"
        for run in report.runs or ():
            if run.verdict in verdicts:
                return f"{run.name}: {_why(run)}"
        for check in report.checks:
            if check.verdict in verdicts:
                return f"{check.name}: {check.seen}"
    return None if report.runs else first_need(report)


def first_need(report: Report) -> str | None:
    """Return the first need that is not met, or not known, with its reason; None where all are met."""
    wrong = [each for each in report.requirements if each.verdict not in (None, "met") and counts(each, report.strict)]
    wrong.sort(key=lambda finding: finding.verdict == "unknown")
    return f"{subject_of(wrong[0])}: {wrong[0].reason}" if wrong else None


def _why(of: Run | Prepared) -> str:
    """Return the likeliest cause; where none is known, the line of output that says most."""
    if not of.diagnoses:
        return of.reason
    first = of.diagnoses[0]
    return first.line if first.name == "not-known" and first.line else first.cause


def counts_of_needs(findings: Sequence[Finding]) -> str:
    """Return how many needs are met, of how many, and what is only advised among those that are not."""
    judged = [each for each in findings if each.verdict]
    met = sum(each.verdict == "met" for each in judged)
    words = f"{met} of {counted(len(judged), 'need')} met"
    advised = sum(each.verdict != "met" and each.strength == "advised" for each in judged)
    if not advised:
        return words
    if advised == len(judged) - met:
        return f"{words}, the other is only advised" if advised == 1 else f"{words}, the others are only advised"
    return f"{words}, {advised} of the others only advised"


def counts_of_checks(report: Report) -> str:
    """Return how many checks passed, of how many, how many were skipped, and which runs were not checked for they did not
    come up; nothing where no check was carried out.
    """
    checks = told_once([*(check for run in report.runs or () for check in run.checks), *report.checks])
    if not checks:
        return ""
    skipped = sum(check.verdict == "skipped" for check in checks)
    words = f"{sum(check.verdict == 'passed' for check in checks)} of {counted(len(checks), 'check')} passed"
    words = f"{words}, {skipped} skipped" if skipped else words
    unchecked = [run.name for run in report.runs or () if run.kind != "program" and not run.up_by]
    return f"{words}, {' and '.join(unchecked)} not checked" if unchecked else words


def told_once(checks: Sequence[Check]) -> list[Check]:
    """Return the checks without those that only sum up what others tell: one fault counts once."""
    return [check for check in checks if not check.sums_up]


def only_skipped(checks: Sequence[Check]) -> bool:
    """Whether every check that somebody asked for was skipped: then a pass says less than it seems to."""
    asked = [check for check in checks if check.source is not None and check.part_of is None]
    return bool(asked) and all(check.verdict == "skipped" for check in asked)
