"""What came of a project under several versions of a tool, in sentences: is the declared range true?"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import msgspec

from dokimon.core.machine.survey import Installation
from dokimon.core.proving.versions_here import version_key
from dokimon.core.report.model import Across, CheckVerdict, Finding, Report, Tried, Verdict
from dokimon.core.report.outcome import UNMET_VERDICTS
from dokimon.core.report.reading import ReportFault
from dokimon.core.report.summary import counts_of_checks, first_wrong
from dokimon.core.text import clean

_VERDICTS: Mapping[str, CheckVerdict] = {"passed": "passed", "failed": "failed", "unmet": "failed"}


def tried_of(copy: Installation, report: Report) -> Tried:
    """Return what a report says of the copy of a tool that a clone was carried out under."""
    version = copy.version or "?"
    reached = next((each.version for each in report.installations if each.tool == copy.tool and each.reached), version)
    if reached != version:  # what passed then would prove nothing of this copy
        cause = f"a command reaches {reached or 'no version that is known'} all the same"
        return Tried(version=version, path=copy.program, declared=True, verdict="unsure", cause=cause)
    required = [each for each in report.requirements if each.strength == "required"]
    of_tool = {each.verdict for each in required if each.tool == copy.tool and each.kind == "tool"}
    ups = [run.up_seconds for run in report.runs or () if run.up_seconds is not None]
    steps = [step.seconds for step in report.prepared or () if step.seconds is not None]
    verdict = _VERDICTS.get(report.verdict, "unsure")
    return Tried(
        version=version,
        path=copy.program,
        declared=not of_tool & UNMET_VERDICTS,
        verdict=verdict,
        cause=None if verdict == "passed" else _cause(copy, report, required),
        checks=counts_of_checks(report) or None,
        prepare_seconds=round(sum(steps), 3) if steps else None,
        up_seconds=max(ups, default=None),
    )


def _cause(copy: Installation, report: Report, required: Sequence[Finding]) -> str:
    """Return what failed first; where nothing was run, the first need of another tool that is not met."""
    others = [each for each in required if each.tool != copy.tool and each.verdict in UNMET_VERDICTS]
    unmet = f"{others[0].tool}: {others[0].reason}" if others else "not known"
    return clean(first_wrong(report) or unmet, 200)


def verdict_of(tried: Sequence[Tried]) -> Verdict:
    """Return what it comes to: `failed` where a declared version is, `passed` where all of those here pass."""
    inside = [each.verdict for each in tried if each.declared]
    if "failed" in inside:
        return "failed"
    return "passed" if inside and all(verdict == "passed" for verdict in inside) else "unsure"


def put_together(reports: Sequence[Report]) -> Report:
    """Return one report of several that each tried versions of the same tool; the last one of a version counts.

    Raises `ReportFault` where they cannot be put together.
    """
    across = [each.across for each in reports if each.across]
    if len(across) < len(reports) or len({each.tool for each in across}) > 1:
        raise ReportFault("several reports can be shown together where each is of smoke --across, for the same tool")
    if len({each.project.name for each in reports}) > 1:
        raise ReportFault("these reports are of several projects")
    found = {each.version: each for one in across for each in one.tried}
    tried = tuple(sorted(found.values(), key=lambda each: version_key(each.version)))
    first = across[0]
    together = Across(
        tool=first.tool, accepts=first.accepts, tried=tried, says=sentences(first.tool, first.accepts, tried)
    )
    return msgspec.structs.replace(reports[0], across=together, verdict=verdict_of(tried))


def sentences(tool: str, accepts: str | None, tried: Sequence[Tried]) -> tuple[str, ...]:
    """Return what is proven: which versions pass and fail, and whether what is declared is true of those that were tried."""
    if not tried:
        return (f"no copy of {tool} that can be run is here: nothing was tried",)
    passed = [each for each in tried if each.verdict == "passed"]
    failed = [each for each in tried if each.verdict != "passed"]
    told = []
    if passed:
        told.append(f"passes with {_listed(passed)}")
    if failed:
        inside = [each for each in failed if each.declared]
        cause = f" ({inside[0].version}: {inside[0].cause})" if inside and inside[0].cause else ""
        told.append(f"does not pass with {_listed(failed)}{cause}")
    first = (
        f"{tool} {accepts or 'any version'} is declared: {'; '.join(told)}" if accepts else f"{tool}: {'; '.join(told)}"
    )
    return (first, *_about_range(tool, accepts, tried))


def _about_range(tool: str, accepts: str | None, tried: Sequence[Tried]) -> list[str]:
    inside = sorted((each for each in tried if each.declared), key=lambda each: version_key(each.version))
    outside = [each for each in tried if not each.declared and each.verdict == "passed"]
    wrong = [each for each in inside if each.verdict == "failed"]
    found = []
    if not inside and accepts:
        found.append(f"no version that is declared is here: of {accepts} nothing is proven")
    if wrong:
        found.append(_where_wrong(tool, inside, wrong))
    elif inside and all(each.verdict == "passed" for each in inside):
        found.append(f"what is declared is true of every version of it that is here ({_listed(inside)})")
    if outside and accepts:
        found.append(f"it also passes with {_listed(outside)}, which the declaration leaves out")
    return found


def _where_wrong(tool: str, inside: Sequence[Tried], wrong: Sequence[Tried]) -> str:
    good = [each for each in inside if each.verdict == "passed"]
    if not good:
        return "no version that is declared passes here"
    keys = [version_key(each.version) for each in good]
    if all(version_key(each.version) < keys[0] for each in wrong):
        return f"the declared lower end is not true; what is proven here begins with {tool} {good[0].version}"
    if all(version_key(each.version) > keys[-1] for each in wrong):
        return f"the declared upper end is not true; what is proven here ends with {tool} {good[-1].version}"
    return f"the declared range is not true of {_listed(wrong)}"


def _listed(tried: Sequence[Tried]) -> str:
    names = [each.version for each in tried]
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"
