"""The report as Markdown; for the needs a prerequisites table, and whether a README still has it as it should be."""

from __future__ import annotations

from collections.abc import Sequence

from dokimon.core.report.folding import standing, subject_of
from dokimon.core.report.model import Check, Finding, Report

BEGIN, END = "<!-- dokimon needs -->", "<!-- end of dokimon needs -->"
"""Between these lines a README keeps the table."""


def prerequisites(report: Report) -> str:
    """Return the table of what is required, a row for each subject. Lines are not named: they move too easily."""
    agreed = {each.tool: each.accepts for each in report.agreed}
    rows: dict[str, list[Finding]] = {}
    for finding in report.requirements:
        if finding.strength == "required":
            rows.setdefault(subject_of(finding), []).append(finding)
    lines = [BEGIN, "| needs | version | asked for by |", "|---|---|---|"]
    for subject, findings in rows.items():
        accepts = agreed.get(subject) or " and ".join(dict.fromkeys(each.accepts for each in findings))
        files = ", ".join(f"`{name}`" for name in dict.fromkeys(each.source.file for each in findings))
        lines.append(f"| {_escaped(_title(findings[0], subject))} | {_escaped(accepts)} | {_escaped(files)} |")
    return "\n".join([*lines, END]) + "\n"


def _title(finding: Finding, subject: str) -> str:
    return subject.replace(finding.tool, finding.title, 1) if finding.title else subject


def _escaped(text: str) -> str:
    return text.replace("|", "\\|").replace("<", "&lt;")


def compare_readme(readme: str, report: Report) -> tuple[Sequence[str], Sequence[str]] | None:
    """Return the rows that the README's table lacks and those it has too many, or None when it has no such table."""
    if BEGIN not in readme or END not in readme.partition(BEGIN)[2]:
        return None
    there = _rows(readme.partition(BEGIN)[2].partition(END)[0])
    wanted = _rows(prerequisites(report))
    return [row for row in wanted if row not in there], [row for row in there if row not in wanted]


def _rows(text: str) -> list[str]:
    rows = [" | ".join(cell.strip() for cell in line.strip().strip("|").split("|")) for line in text.splitlines()]
    return [row for row in rows if row and not set(row) <= set("|-: ") and not row.startswith(("needs | ", "<!--"))]


def encode(report: Report) -> str:
    """Return the report as Markdown: the prerequisites for `needs`, else a table of what was judged and seen."""
    if report.command == "needs":
        return prerequisites(report)
    lines = [f"## dokimon {report.command}: {_escaped(report.project.name)}: {report.verdict}", ""]
    judged = [finding for finding in report.requirements if finding.verdict]
    if judged:
        lines += ["| needs | accepts | asked for by | found | verdict |", "|---|---|---|---|---|"]
        for each in judged:
            found = f"{each.found.version or '?'} `{each.found.path}`" if each.found else ""
            where = f"`{each.source.file}:{each.source.line}`"
            verdict = f"{each.verdict} (advised)" if each.strength == "advised" else str(each.verdict)
            lines.append(_row(subject_of(each), each.accepts, where, found, verdict))
    elif report.installations:
        lines += ["| tool | version | path | standing |", "|---|---|---|---|"]
        for copy in report.installations:
            lines.append(_row(copy.tool, copy.version or "?", f"`{copy.path}`", standing(copy)))
    if report.command == "tools" and report.components:
        lines += ["", "| tool | component | version |", "|---|---|---|"]
        lines += [_row(each.tool, each.name, each.version or "?") for each in report.components]
    for run in report.runs or ():
        lines += ["", f"### {_escaped(run.name)}: {run.verdict}", "", f"`{run.command}`: {_escaped(run.reason)}", ""]
        lines += _of_checks(run.checks)
    lines += ["", "### checkout", "", *_of_checks(report.checks)] if report.checks else []
    return "\n".join(lines) + "\n"


def _of_checks(checks: tuple[Check, ...]) -> list[str]:
    head = ["| check | seen | verdict |", "|---|---|---|"] if checks else []
    return head + [_row(check.full_name, check.seen, check.verdict) for check in checks]


def _row(*cells: str) -> str:
    return "| " + " | ".join(_escaped(cell) for cell in cells) + " |"
