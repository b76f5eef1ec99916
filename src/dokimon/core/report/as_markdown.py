"""The report as Markdown; for the needs a prerequisites table, and whether a README still has it as it should be."""

from __future__ import annotations

import re
from collections.abc import Sequence

from dokimon.core.expressions import expression
from dokimon.core.report.folding import standing, subject_of
from dokimon.core.report.model import Across, Changes, Check, Diagnosis, Finding, FromClone, Report

BEGIN, END = "<!-- dokimon needs -->", "<!-- end of dokimon needs -->"
"""Between these lines a README keeps the table."""


def prerequisites(report: Report) -> str:
    """Return the table of what is required, a row for each subject. Lines are not named: they move too easily."""
    rows: dict[str, list[Finding]] = {}
    for finding in report.requirements:
        if finding.strength == "required" and finding.kind != "fact":
            rows.setdefault(subject_of(finding), []).append(finding)
    lines = [BEGIN, "| needs | version | asked for by |", "|---|---|---|"]
    for subject, findings in rows.items():
        title = plain_text(_title(findings[0], subject))
        agreed = [each for each in report.agreed if each.tool == subject]
        if len(agreed) < 2:
            accepts = agreed[0].accepts if agreed else " and ".join(dict.fromkeys(each.accepts for each in findings))
            lines.append(table_row(title, plain_text(accepts), _files(findings)))
            continue
        for each in agreed:  # folders need different versions side by side
            where = ", ".join("the root" if place == "." else place for place in each.places)
            mine = [finding for finding in findings if (finding.part or ".") in each.places]
            lines.append(
                table_row(f"{title} in {plain_text(where)}", plain_text(each.accepts), _files(mine or findings))
            )
    return "\n".join([*lines, END]) + "\n"


def _files(findings: Sequence[Finding]) -> str:
    return ", ".join(map(_cell, dict.fromkeys(each.source.file for each in findings)))


def _title(finding: Finding, subject: str) -> str:
    return subject.replace(finding.tool, finding.title, 1) if finding.title else subject


_SPECIAL = expression(r"([\\\\`*_\[\]|~])")


def plain_text(text: str) -> str:
    """Return text so that none of it is taken for Markdown (CommonMark §2.4, GFM §4.10)."""
    return _SPECIAL.sub(r"\\\1", text).replace("&", "&amp;").replace("<", "&lt;")


def _code(text: str) -> str:
    """Return text as code: between as many backticks as it has not in a row itself (CommonMark §6.1)."""
    longest = max((len(run) for run in re.findall(r"`+", text)), default=0)
    fence, space = "`" * (longest + 1), " " if text.startswith("`") or text.endswith("`") or not text.strip() else ""
    return f"{fence}{space}{text}{space}{fence}"


def _cell(text: str) -> str:
    """Return text as code in a table, whose cells a bar would end (GFM §4.10)."""
    return _code(text).replace("|", "\\|")


def compare_readme(readme: str, report: Report) -> tuple[Sequence[str], Sequence[str]] | None:
    """Return the rows that the README's table lacks and those it has too many, or None when it has no such table."""
    if BEGIN not in readme or END not in readme.partition(BEGIN)[2]:
        return None
    there = _rows(readme.partition(BEGIN)[2].partition(END)[0])
    wanted = _rows(prerequisites(report))
    return [row for row in wanted if row not in there], [row for row in there if row not in wanted]


def _rows(text: str) -> list[str]:
    rows = [
        " | ".join(cell.strip() for cell in re.split(r"(?<!\\)\|", line.strip())[1:-1]) for line in text.splitlines()
    ]
    return [row for row in rows if row and not set(row) <= set("|-: ") and not row.startswith(("needs | ", "<!--"))]


def encode(report: Report) -> str:
    """Return the report as Markdown: the prerequisites for `needs`, else a table of what was judged and seen."""
    if report.command == "needs":
        return prerequisites(report)
    lines = [f"## dokimon {report.command}: {plain_text(report.project.name)}: {report.verdict}", ""]
    if report.from_clone:
        lines += [*_of_clone(report.from_clone), ""]
    if report.supposed:
        lines += [f"Supposed: {plain_text(', '.join(report.supposed))}.", ""]
    judged = [finding for finding in report.requirements if finding.verdict]
    if judged:
        lines += ["| needs | accepts | asked for by | found | verdict |", "|---|---|---|---|---|"]
        for each in judged:
            found = f"{plain_text(each.found.version or '?')} {_cell(each.found.path)}" if each.found else ""
            where = _cell(f"{each.source.file}:{each.source.line}")
            verdict = f"{each.verdict} (advised)" if each.strength == "advised" else str(each.verdict)
            lines.append(table_row(plain_text(subject_of(each)), plain_text(each.accepts), where, found, verdict))
    elif report.installations:
        lines += ["| tool | version | path | standing |", "|---|---|---|---|"]
        for copy in report.installations:
            lines.append(
                table_row(
                    plain_text(copy.tool),
                    plain_text(copy.version or "?"),
                    _cell(copy.path),
                    plain_text(standing(copy)),
                )
            )
    if report.command == "tools" and report.components:
        lines += ["", "| tool | component | version |", "|---|---|---|"]
        lines += [
            table_row(plain_text(each.tool), plain_text(each.name), plain_text(each.version or "?"))
            for each in report.components
        ]
    for step in report.prepared or ():
        if step.verdict not in ("passed", "skipped"):
            lines += [
                "",
                f"### {plain_text(step.title)}: {step.verdict}",
                "",
                *_of_causes(step.diagnoses),
                plain_text(step.reason),
            ]
    for run in report.runs or ():
        lines += [
            "",
            f"### {plain_text(run.name)}: {run.verdict}",
            "",
            f"{_code(run.command)}: {plain_text(run.reason)}",
            "",
        ]
        lines += [*_of_causes(run.diagnoses), *_of_causes(run.noticed), *_of_checks(run.checks)]
    lines += ["", "### checkout", "", *_of_checks(report.checks)] if report.checks else []
    return "\n".join([*lines, *_beside(report)]) + "\n"


def _beside(report: Report) -> list[str]:
    lines = _of_across(report.across) if report.across else []
    return [*lines, *(_of_changes(report.since_passed) if report.since_passed else [])]


def _of_across(across: Across) -> list[str]:
    tools = [across.tool, *(each.tool for each in across.beside)]
    names = " | ".join(map(plain_text, tools))
    lines = [f"| {names} | declared | verdict | checks | first cause |", "|---" * (len(tools) + 4) + "|"]
    for each in across.tried:
        versions = (each.version, *(one.version for one in each.beside))
        cells = (*versions, "yes" if each.declared else "no", each.verdict, each.checks or "", each.cause or "")
        lines.append(table_row(*map(plain_text, cells)))
    missing = [f"not tried, as no copy is here: {each.tool} {each.version}" for each in across.not_tried]
    return [*lines, "", *(f"- {plain_text(each)}" for each in (*across.says, *missing))]


def _of_clone(clone: FromClone) -> list[str]:
    what = f"A clone of commit {clone.commit[:7]}" if clone.commit else "A copy of the folder"
    lines = [f"{what}{', with what is staged' if clone.staged else ''}, with an empty home."]
    told = (*clone.notes, *clone.lacks)
    return [*lines, "", *(f"- {plain_text(each)}" for each in told)] if told else lines


_MOST_CHANGES = 12


def _of_changes(changes: Changes) -> list[str]:
    commit = f", commit {changes.commit[:7]}" if changes.commit else ""
    lines = ["", f"### other than when it last passed ({plain_text(changes.at)}{commit})", ""]
    lines += [f"- {plain_text(each.says)}" for each in changes.differences[:_MOST_CHANGES]]
    more = len(changes.differences) - _MOST_CHANGES
    return [*lines, *([f"- and {more} more"] if more > 0 else [])]


def _of_causes(causes: tuple[Diagnosis, ...]) -> list[str]:
    lines = []
    for each in causes:
        lines += [f"Likely cause: {plain_text(each.cause)}", ""]
        lines += [
            f"- {plain_text(step.say)}{f': {_code(step.command)}' if step.command else ''}" for step in each.remedies
        ]
        lines += [""] if each.remedies else []
    return lines


def _of_checks(checks: tuple[Check, ...]) -> list[str]:
    head = ["| check | seen | verdict |", "|---|---|---|"] if checks else []
    return head + [table_row(plain_text(check.full_name), plain_text(check.seen), check.verdict) for check in checks]


def table_row(*cells: str) -> str:
    """Return a row of a table; the cells are Markdown."""
    return f"| {' | '.join(cells)} |"
