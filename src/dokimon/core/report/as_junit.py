"""The report as JUnit XML, the form that CI systems read: a suite for the needs, one for the steps, one for each run."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple
from xml.etree import ElementTree

from dokimon.core.expressions import expression
from dokimon.core.report.folding import subject_of
from dokimon.core.report.model import Across, Check, Finding, Prepared, Remedy, Report, Run
from dokimon.core.report.outcome import UNMET_VERDICTS
from dokimon.core.report.summary import told_once
from dokimon.core.source import Source

_NO_CHARACTER = expression("[^\t\n\r -\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")
"""What XML 1.0 (§2.2, "Characters") does not allow in a document, not even escaped."""


class _Case(NamedTuple):
    """One test case: its verdict in JUnit's words (`failure`, `error`, `skipped` or nothing), and what to say.

    `says` is one line, `more` the lines that help on: the likely cause, what to do, what was printed.
    """

    name: str
    outcome: str
    says: str
    seconds: float = 0.0
    more: tuple[str, ...] = ()
    source: Source | None = None


_OUTCOMES = {"failed": "failure", "unsure": "error", "unknown": "error", "skipped": "skipped"}


def encode(report: Report) -> str:
    """Return the XML text. What stays unknown or unsure is an error; advice that is not met is skipped.

    A fault counts once: a run that failed by a check is no failure of its own beside it.
    """
    top = ElementTree.Element("testsuites", name=_title(report))
    conflicts = [_Case(f"{each.tool} agrees", "failure", each.reason) for each in report.conflicts]
    _suite(top, "needs", [*map(_of_finding, report.requirements), *conflicts])
    _suite(top, "prepare", [_of_step(step) for step in report.prepared or ()])
    for run in report.runs or ():
        _suite(top, run.name, _of_run(run))
    _suite(top, "checkout", [_of_check(check) for check in report.checks])
    _suite(top, "across", _of_across(report.across) if report.across else [])
    ElementTree.indent(top)
    text = _NO_CHARACTER.sub("\N{REPLACEMENT CHARACTER}", ElementTree.tostring(top, encoding="unicode"))
    return f'<?xml version="1.0" encoding="UTF-8"?>\n{text}\n'


def _of_across(across: Across) -> list[_Case]:
    """Return a case for each version: one that is not declared fails nobody."""
    cases = []
    for each in across.tried:
        outcome = _OUTCOMES.get(each.verdict, "")
        if outcome and not each.declared:
            outcome = "skipped"
        beside = "".join(f", {one.tool} {one.version}" for one in each.beside)
        cases.append(
            _Case(
                f"{across.tool} {each.version}{beside}", outcome, each.cause or each.checks or "", each.up_seconds or 0
            )
        )
    return cases


def _title(report: Report) -> str:
    supposed = f" (supposed: {', '.join(report.supposed)})" if report.supposed else ""
    return f"dokimon {report.command}: {report.project.name}{supposed}"


def _of_finding(finding: Finding) -> _Case:
    verdict = finding.verdict or ("unknown" if finding.reason else "")
    outcome = "failure" if verdict in UNMET_VERDICTS else _OUTCOMES.get(verdict, "")
    if outcome and finding.strength == "advised":
        outcome = "skipped"
    name = f"{subject_of(finding)} {finding.accepts} ({finding.source.file}:{finding.source.line})"
    more = tuple(_of_remedies(finding.remedies))
    return _Case(name, outcome, finding.reason or "", more=more, source=finding.source)


def _of_step(step: Prepared) -> _Case:
    outcome = _OUTCOMES.get(step.verdict, "")
    return _Case(step.title, outcome, step.reason, step.seconds or 0, tuple(_what_helps(step)), step.source)


def _of_run(run: Run) -> list[_Case]:
    """Return the case of the run itself, and those of its checks; what helps on stands with the first that failed."""
    helps = tuple(_what_helps(run))
    own = _Case(run.command, _OUTCOMES.get(run.verdict, ""), run.reason, run.up_seconds or 0, helps, run.source)
    checks = [_of_check(check) for check in told_once(run.checks)]
    first = next((number for number, case in enumerate(checks) if case.outcome == own.outcome), None)
    if own.outcome and first is not None:
        checks[first] = checks[first]._replace(more=helps)
        own = own._replace(outcome="", more=())
    return [own, *checks]


def _of_check(check: Check) -> _Case:
    says = f"{check.seen} (expected: {check.expected})"
    return _Case(check.full_name, _OUTCOMES.get(check.verdict, ""), says, check.seconds or 0, source=check.source)


def _what_helps(of: Run | Prepared) -> Iterator[str]:
    for cause in of.diagnoses:
        yield f"likely cause: {cause.cause}"
        if cause.line:
            yield f"shown by: {cause.line}"
        if cause.at:
            yield f"at: {cause.at}"
        yield from _of_remedies(cause.remedies)
    if of.last_lines:
        yield "its last lines:"
        yield from (f"    {line}" for line in of.last_lines)
    if of.log:
        yield f"its whole output: {of.log}"


def _of_remedies(remedies: Sequence[Remedy]) -> Iterator[str]:
    for remedy in remedies:
        yield f"to do: {remedy.say}"
        if remedy.command:
            yield f"    {remedy.command}"


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
        place = case.source
        where: dict[str, Any] = {"file": place.file, "line": str(place.line)} if place else {}
        element = ElementTree.SubElement(
            suite, "testcase", classname=name, name=case.name, time=f"{case.seconds:.3f}", **where
        )
        if case.outcome:
            told = ElementTree.SubElement(element, case.outcome, message=case.says)
            told.text = "\n".join(case.more) or None
