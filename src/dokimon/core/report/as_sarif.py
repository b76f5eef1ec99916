"""The report as SARIF 2.1.0 (OASIS standard): what is wrong and has a file and line, for tools that show it there."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any
from urllib.parse import quote

from dokimon.core.report.folding import subject_of
from dokimon.core.report.model import Check, Finding, Prepared, Remedy, Report, Run
from dokimon.core.report.summary import told_once
from dokimon.core.source import Source
from dokimon.core.version import __version__

_SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"

_RULES = {
    "need-unmet": "The version that is reached is not one that the project accepts.",
    "need-missing": "What the project needs is not on this machine.",
    "need-off-path": "What the project needs is on this machine, and PATH does not lead to it.",
    "need-conflict": "Declarations of the project contradict each other.",
    "need-unknown": "Whether a need is met could not be judged.",
    "step-failed": "A step that prepares the project failed.",
    "run-failed": "A run of the project failed.",
    "check-failed": "A smoke check of a run failed.",
}

_LEVELS = {"unsure": "warning", "unknown": "warning"}


def encode(report: Report) -> str:
    """Return the log as JSON text. Only what has a place in a file is a result (SARIF 2.1.0, §3.27, §3.29)."""
    results = [*_of_findings(report), *_of_conflicts(report), *_of_steps(report), *_of_runs(report)]
    driver = {
        "name": "Dokimon",
        "version": __version__,
        "semanticVersion": __version__,
        "rules": [{"id": name, "shortDescription": {"text": text}} for name, text in _RULES.items()],
    }
    run: dict[str, Any] = {
        "tool": {"driver": driver},
        "columnKind": "unicodeCodePoints",
        "automationDetails": {"id": f"dokimon/{report.command}/"},
        "invocations": [{"executionSuccessful": not report.interrupted}],
        "results": results,
    }
    made = report.made
    if made and made.commit:
        # §3.23 wants an address; that the checkout has none here is no reason to leave the revision out.
        run["properties"] = {"revision": made.commit, **({"branch": made.branch} if made.branch else {})}
    return json.dumps({"$schema": _SCHEMA, "version": "2.1.0", "runs": [run]}, indent=2, ensure_ascii=False) + "\n"


def _of_findings(report: Report) -> Iterator[dict[str, Any]]:
    for each in report.requirements:
        verdict = each.verdict or ("unknown" if each.reason else None)
        if verdict in (None, "met") or each.kind == "fact":
            continue
        level = "note" if each.strength == "advised" else _LEVELS.get(verdict, "error")
        text = f"{subject_of(each)} {each.accepts}: {verdict}. {each.reason or ''}".strip()
        yield _result(f"need-{verdict}", level, _with_steps(text, each.remedies), each.source, each.id)


def _of_conflicts(report: Report) -> Iterator[dict[str, Any]]:
    by_id: dict[str, Finding] = {each.id: each for each in report.requirements}
    for each in report.conflicts:
        first = next((by_id[name] for name in each.between if name in by_id), None)
        if first and first.verdict != "conflict":
            yield _result(
                "need-conflict", "error", f"{each.tool}: {each.reason}", first.source, f"conflict/{each.tool}"
            )


def _of_steps(report: Report) -> Iterator[dict[str, Any]]:
    for step in report.prepared or ():
        if step.verdict in ("failed", "unsure") and step.source:
            yield _result(
                "step-failed", _level(step.verdict), _why(step, step.title), step.source, f"step/{step.title}"
            )


def _of_runs(report: Report) -> Iterator[dict[str, Any]]:
    for run in report.runs or ():
        wrong = [check for check in told_once(run.checks) if check.verdict in ("failed", "unsure") and check.source]
        for check in wrong:
            yield _result(
                "check-failed",
                _level(check.verdict),
                _of_check(run, check),
                check.source,
                f"{run.name}/{check.full_name}",
            )
        if run.verdict in ("failed", "unsure") and run.source and not wrong:
            yield _result("run-failed", _level(run.verdict), _why(run, run.name), run.source, f"run/{run.name}")


def _of_check(run: Run, check: Check) -> str:
    text = f"{run.name}: {check.full_name}: {check.seen} (expected: {check.expected})."
    return _with_steps(text + "".join(f" Likely cause: {each.cause}." for each in run.diagnoses[:1]), _steps(run))


def _why(of: Run | Prepared, name: str) -> str:
    cause = of.diagnoses[0].cause if of.diagnoses else None
    return _with_steps(f"{name}: {of.reason}." + (f" Likely cause: {cause}." if cause else ""), _steps(of))


def _steps(of: Run | Prepared) -> tuple[Remedy, ...]:
    return of.diagnoses[0].remedies if of.diagnoses else ()


def _with_steps(text: str, remedies: tuple[Remedy, ...]) -> str:
    return "\n".join([text, *(f"- {step.say}" + (f": {step.command}" if step.command else "") for step in remedies)])


def _level(verdict: str) -> str:
    return _LEVELS.get(verdict, "error")


def _result(rule: str, level: str, text: str, source: Source | None, about: str) -> dict[str, Any]:
    place = source or Source("", 1, "")
    region: dict[str, Any] = {"startLine": max(place.line, 1)}
    if place.text:
        region["snippet"] = {"text": place.text}
    return {
        "ruleId": rule,
        "ruleIndex": list(_RULES).index(rule),
        "level": level,
        # A plain text message must not be taken for one with placeholders or links (§3.11.5, §3.11.6).
        "message": {"text": text.replace("{", "{{").replace("}", "}}").replace("[", "\\[")},
        "locations": [
            {
                "physicalLocation": {
                    "artifactLocation": {"uri": quote(place.file), "uriBaseId": "%SRCROOT%"},
                    "region": region,
                }
            }
        ],
        "partialFingerprints": {"dokimon/1": f"{rule}/{about}"},
    }
