"""The report as JUnit XML, the form that CI systems read: a suite for the needs, one for the steps, one for each run."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple
from xml.etree import ElementTree

from dokimon.core.report.folding import subject_of
from dokimon.core.report.model import Check, Report
from dokimon.core.report.outcome import UNMET_VERDICTS

_NO_CHARACTER = re.compile("[^\t\n\r -\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")
"""What XML 1.0 (§2.2, "Characters") does not allow in a document, not even escaped."""


class _Case(NamedTuple):
    """One test case: its verdict in JUnit's words (`failure`, `error`, `skipped` or nothing), and what to say."""

    name: str
    outcome: str
    says: str
    seconds: float = 0.0


_OUTCOMES = {"failed": "failure", "unsure": "error", "unknown": "error", "skipped": "skipped"}


def encode(report: Report) -> str:
    """Return the XML text. What stays unknown or unsure is an error; advice that is not met is skipped."""
    top = ElementTree.Element("testsuites", name=f"dokimon {report.command}: {report.project.name}")
    needs = []
    for finding in report.requirements:
        verdict = finding.verdict or ("unknown" if finding.reason else "")
        outcome = "failure" if verdict in UNMET_VERDICTS else _OUTCOMES.get(verdict, "")
        if outcome and finding.strength == "advised":
            outcome = "skipped"
        where = f"{finding.source.file}:{finding.source.line}"
        needs.append(_Case(f"{subject_of(finding)} {finding.accepts} ({where})", outcome, finding.reason or ""))
    needs += [_Case(f"{each.tool} agrees", "failure", each.reason) for each in report.conflicts]
    _suite(top, "needs", needs)
    steps = report.prepared or ()
    _suite(top, "prepare", [_Case(s.title, _OUTCOMES.get(s.verdict, ""), s.reason, s.seconds or 0) for s in steps])
    for run in report.runs or ():
        cases = [_Case(run.command, _OUTCOMES.get(run.verdict, ""), run.reason, run.up_seconds or 0)]
        _suite(top, run.name, cases + _of_checks(run.checks))
    _suite(top, "checkout", _of_checks(report.checks))
    ElementTree.indent(top)
    text = _NO_CHARACTER.sub("\N{REPLACEMENT CHARACTER}", ElementTree.tostring(top, encoding="unicode"))
    return f'<?xml version="1.0" encoding="UTF-8"?>\n{text}\n'


def _of_checks(checks: Sequence[Check]) -> list[_Case]:
    return [
        _Case(
            check.full_name, _OUTCOMES.get(check.verdict, ""), f"{check.seen} (expected: {check.expected})",
            check.seconds or 0,
        )
        for check in checks
    ]  # fmt: skip


def _suite(top: ElementTree.Element, name: str, cases: list[_Case]) -> None:
    if not cases:
        return
    number = {word: sum(1 for case in cases if case.outcome == word) for word in ("failure", "error", "skipped")}
    suite = ElementTree.SubElement(
        top,
        "testsuite",
        name=name,
        tests=str(len(cases)),
        failures=str(number["failure"]),
        errors=str(number["error"]),
        skipped=str(number["skipped"]),
        time=f"{sum(case.seconds for case in cases):.3f}",
    )
    for case in cases:
        element = ElementTree.SubElement(suite, "testcase", classname=name, name=case.name, time=f"{case.seconds:.3f}")
        if case.outcome:
            ElementTree.SubElement(element, case.outcome, message=case.says)
