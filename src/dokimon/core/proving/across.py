"""What came of a project under several versions of a tool, in sentences: is the declared range true?"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

import msgspec

from dokimon.core.machine.catalogue import is_of_line
from dokimon.core.proving.combining import Combination
from dokimon.core.proving.versions_here import version_key
from dokimon.core.report.model import Accepted, Across, Beside, CheckVerdict, Finding, NotTried, Report, Tried, Verdict
from dokimon.core.report.outcome import UNMET_VERDICTS
from dokimon.core.report.reading import ReportFault
from dokimon.core.report.summary import counts_of_checks, first_wrong
from dokimon.core.text import clean

_VERDICTS: Mapping[str, CheckVerdict] = {"passed": "passed", "failed": "failed", "unmet": "failed"}

_MOST_PAIRS = 5


def tried_of(copies: Combination, report: Report) -> Tried:
    """Return what a report says of the copies (one of each tool) that a clone was carried out under."""
    required = [each for each in report.requirements if each.strength == "required"]
    ups = [run.up_seconds for run in report.runs or () if run.up_seconds is not None]
    steps = [step.seconds for step in report.prepared or () if step.seconds is not None]
    verdict = _VERDICTS.get(report.verdict, "unsure")
    cause = "interrupted" if report.interrupted else _cause(copies, report, required)
    tried = _tried(
        copies,
        verdict,
        None if verdict == "passed" else cause,
        {each.tool for each in required if each.kind == "tool" and each.verdict in UNMET_VERDICTS},
    )
    for copy in copies:
        reached = next(
            (each.version for each in report.installations if each.tool == copy.tool and each.reached), copy.version
        )
        if reached != copy.version:  # what passed then would prove nothing of this copy
            cause = f"a command reaches {copy.tool} {reached or 'of no version that is known'} all the same"
            return msgspec.structs.replace(tried, verdict="unsure", cause=cause)
    return msgspec.structs.replace(
        tried,
        checks=counts_of_checks(report) or None,
        prepare_seconds=round(sum(steps), 3) if steps else None,
        up_seconds=max(ups, default=None),
    )


def not_made(copies: Combination, reason: str) -> Tried:
    """Return the same where no clone could be made, or nothing in it could be carried out."""
    return _tried(copies, "unsure", clean(reason, 200), frozenset())


def _tried(copies: Combination, verdict: CheckVerdict, cause: str | None, undeclared: Iterable[str]) -> Tried:
    each = [
        Beside(
            tool=copy.tool,
            version=clean(copy.version or "?"),
            path=clean(copy.program),
            declared=copy.tool not in undeclared,
        )
        for copy in copies
    ]
    return Tried(
        version=each[0].version,
        path=each[0].path,
        declared=all(one.declared for one in each),
        verdict=verdict,
        beside=tuple(each[1:]),
        cause=cause,
    )


def _cause(copies: Combination, report: Report, required: Sequence[Finding]) -> str:
    """Return what failed first; where nothing was run, the first need of another tool that is not met."""
    tools = {copy.tool for copy in copies}
    others = [each for each in required if each.tool not in tools and each.verdict in UNMET_VERDICTS]
    unmet = f"{others[0].tool}: {others[0].reason}" if others else "not known"
    return clean(first_wrong(report) or unmet, 200)


def verdict_of(tried: Sequence[Tried]) -> Verdict:
    """Return what it comes to: `failed` where a declared version is, `passed` where all of those here pass."""
    inside = [each.verdict for each in tried if each.declared]
    if "failed" in inside:
        return "failed"
    return "passed" if inside and all(verdict == "passed" for verdict in inside) else "unsure"


def across_of(tools: Sequence[Accepted], tried: Sequence[Tried], not_tried: Sequence[NotTried] = ()) -> Across:
    """Return what was tried of some tools, with what is proven by it."""
    first, *others = tools
    says = list(sentences(first.tool, first.accepts, tried if not others else of_tool(first.tool, first.tool, tried)))
    for other in others:
        says += sentences(other.tool, other.accepts, of_tool(other.tool, first.tool, tried))
    return Across(
        tool=first.tool,
        accepts=first.accepts,
        beside=tuple(others),
        tried=tuple(tried),
        says=(*says, *_not_together(first.tool, tried)),
        not_tried=tuple(not_tried),
    )


def put_together(reports: Sequence[Report]) -> Report:
    """Return one report of several that each tried versions of the same tools; the last one of a combination counts.

    Raises `ReportFault` where they cannot be put together.
    """
    across = [each.across for each in reports if each.across]
    tools = [(Accepted(tool=each.tool, accepts=each.accepts), *each.beside) for each in across]
    if len(across) < len(reports) or len({tuple(one.tool for one in each) for each in tools}) > 1:
        raise ReportFault("several reports can be shown together where each is of smoke --across, for the same tools")
    if len({each.project.name for each in reports}) > 1:
        raise ReportFault("these reports are of several projects")
    made = together(across)
    return msgspec.structs.replace(reports[0], across=made, verdict=verdict_of(made.tried))


def together(across: Sequence[Across]) -> Across:
    """Return what was tried of the same tools in several calls, as of one; the last one of a combination counts."""
    first = across[-1]
    found = {_versions(each): each for one in across for each in one.tried}
    tried = sorted(found.values(), key=lambda each: [version_key(version) for version in _versions(each)])
    here = {(one.tool, one.version) for each in tried for one in _tools_of(first.tool, each)}
    missing = {(one.tool, one.line): one for each in across for one in each.not_tried}
    left = [
        one
        for one in missing.values()
        if not any(tool == one.tool and is_of_line(version, one.line) for tool, version in here)
    ]
    return across_of((Accepted(tool=first.tool, accepts=first.accepts), *first.beside), tried, left)


def _versions(tried: Tried) -> tuple[str, ...]:
    return (tried.version, *(each.version for each in tried.beside))


def _tools_of(first: str, tried: Tried) -> list[Beside]:
    others = [each.declared for each in tried.beside]
    mine = Beside(tool=first, version=tried.version, path=tried.path, declared=tried.declared or not all(others))
    return [mine, *tried.beside]


def of_tool(tool: str, first: str, tried: Sequence[Tried]) -> list[Tried]:
    """Return what came of each version of one tool of several: it passes where it does with some of the others.

    What is declared of the others counts, where anything of it was tried with the version.
    """
    found: dict[str, list[tuple[Beside, Tried]]] = {}
    for each in tried:
        (mine,) = [one for one in _tools_of(first, each) if one.tool == tool]
        found.setdefault(mine.version, []).append((mine, each))
    made = []
    for version, pairs in found.items():
        mine = pairs[0][0]
        counts = [each for _, each in pairs if each.declared] or [each for _, each in pairs]
        best = next((each for each in counts if each.verdict == "passed"), counts[0])
        made.append(
            Tried(version=version, path=mine.path, declared=mine.declared, verdict=best.verdict, cause=best.cause)
        )
    return sorted(made, key=lambda each: version_key(each.version))


def _not_together(first: str, tried: Sequence[Tried]) -> list[str]:
    """Return which versions of several tools pass each, and not together."""
    good = {(one.tool, one.version) for each in tried if each.verdict == "passed" for one in _tools_of(first, each)}
    found = []
    for each in tried:
        tools = _tools_of(first, each)
        if len(tools) > 1 and each.verdict == "failed" and all((one.tool, one.version) in good for one in tools):
            names = " and ".join(f"{one.tool} {one.version}" for one in tools)
            found.append(f"{names} each pass, but not together{f' ({each.cause})' if each.cause else ''}")
    more = [f"and {len(found) - _MOST_PAIRS} more that do not pass together"] if len(found) > _MOST_PAIRS else []
    return [*found[:_MOST_PAIRS], *more]


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
    first = f"{tool} {accepts} is declared: {'; '.join(told)}" if accepts else f"{tool}: {'; '.join(told)}"
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
