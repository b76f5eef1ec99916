"""Requirements compared with the survey: each becomes one finding of the report, made once."""

from __future__ import annotations

from collections.abc import Sequence

from dokimon.core.declarations.requirement import Requirement
from dokimon.core.declarations.subjects import ToolSubject
from dokimon.core.judging.agreement import Agreement, contradiction_in_words
from dokimon.core.judging.remedies import remedies
from dokimon.core.judging.taken import with_what_is_taken
from dokimon.core.judging.values import Judgement, Machine
from dokimon.core.judging.verdicts import verdict_on
from dokimon.core.machine.catalogue import Catalogue
from dokimon.core.report.model import Finding, Remedy
from dokimon.core.text import clean


def ids_of(requirements: Sequence[Requirement]) -> tuple[str, ...]:
    """Return the id of each requirement: its subject and a number (`node#1`)."""
    numbers: dict[str, int] = {}
    ids = []
    for each in requirements:
        label = clean(each.label, 120)
        numbers[label] = numbers.get(label, 0) + 1
        ids.append(f"{label}#{numbers[label]}")
    return tuple(ids)


def describe(requirements: Sequence[Requirement], catalogue: Catalogue) -> tuple[Finding, ...]:
    """Return the requirements as findings that nothing was compared with, in their order."""
    numbered = zip(ids_of(requirements), requirements, strict=True)
    return tuple(_finding(name, each, None, (), catalogue) for name, each in numbered)


def judge(
    requirements: Sequence[Requirement], agreements: Sequence[Agreement], machines: Sequence[Machine]
) -> tuple[Finding, ...]:
    """Return one finding for each requirement, in their order; `machines` has the machine as each one's folder sees it.

    What contradicts another declaration (by `agreements`) and is not met has the verdict `conflict`. A fact is only
    told.
    """
    alone = [verdict_on(each, machine) for each, machine in zip(requirements, machines, strict=True)]
    judged = with_what_is_taken(requirements, alone, machines[0]) if machines else alone
    contradicting = {index: agreement for agreement in agreements for index in agreement.between}
    elsewhere = _what_works_here(requirements, judged)
    findings = []
    rows = zip(ids_of(requirements), requirements, judged, machines, strict=True)
    for index, (name, need, judgement, machine) in enumerate(rows):
        steps: tuple[Remedy, ...] = ()
        if judgement and judgement.verdict != "met":
            if index in contradicting:
                judged[index], steps = _in_conflict(requirements, contradicting[index], judgement)
            else:
                steps = remedies(_strictest(need, requirements, judged), judgement, machine)
            if _is_barred(need, judgement):
                steps = (*steps, elsewhere)
        findings.append(_finding(name, need, judged[index], steps, machine.catalogue))
    return tuple(findings)


def _strictest(
    need: Requirement, requirements: Sequence[Requirement], judged: Sequence[Judgement | None]
) -> Requirement:
    """Return the need of the same tool that asks for most, where several are not met: what meets it meets them all."""
    if not isinstance(need.subject, ToolSubject) or need.constraint is None or need.strength != "required":
        return need
    others = [
        each
        for each, judgement in zip(requirements, judged, strict=True)
        if each.subject == need.subject and each.strength == "required" and each.part == need.part
        and each.constraint is not None and judgement is not None and judgement.verdict != "met"
    ]  # fmt: skip
    fitting = [
        each
        for each in others
        if each.constraint and each.constraint.lowest and all(other.admits(each.constraint.lowest) for other in others)
    ]
    return next((each for each in fitting if each.constraint and each.constraint.exact), next(iter(fitting), need))


def _finding(
    name: str, need: Requirement, judgement: Judgement | None, steps: tuple[Remedy, ...], catalogue: Catalogue
) -> Finding:
    kind, tool = need.subject.kind, clean(need.tool, 120)
    entry = catalogue.find(need.tool) if kind in ("tool", "component") else None
    component = _component_of(need)
    reason = judgement.reason if judgement else need.fault
    return Finding(
        id=name,
        tool=tool,
        title=entry.title if entry else None,
        wanted=clean(need.wanted),
        accepts=clean(need.accepts),
        language=need.language,
        strength=need.strength,
        source=need.source,
        kind=kind,
        component=component,
        part=None if need.part == "." else need.part,
        why=clean(need.why) if need.why else None,
        verdict=judgement.verdict if judgement else None,
        reason=clean(reason) if reason else None,
        wrong_at=need.fault_at,
        found=judgement.evidence if judgement else None,
        remedies=steps,
    )


def _component_of(need: Requirement) -> str | None:
    """Return the component, or the address of a service, as the report has it."""
    address = getattr(need.subject, "address", None)
    component = address or need.component
    return clean(component, 120) if component else None


def _in_conflict(
    requirements: Sequence[Requirement], agreement: Agreement, judgement: Judgement
) -> tuple[Judgement, tuple[Remedy, ...]]:
    places = [requirements[index].source.place for index in agreement.between]
    reason = f"{judgement.reason}. {contradiction_in_words(requirements, agreement)}"
    changed = Judgement(verdict="conflict", reason=reason, copy=judgement.copy, found=judgement.found)
    return changed, (Remedy(say=f"make {' and '.join(places)} agree"),)


def _is_barred(need: Requirement, judgement: Judgement | None) -> bool:
    """Whether a part of the checkout is for another platform than this."""
    return need.subject.kind == "platform" and judgement is not None and judgement.verdict == "unmet"


def _what_works_here(requirements: Sequence[Requirement], judged: Sequence[Judgement | None]) -> Remedy:
    """Where a part of the checkout is for another platform, say which parts ask for none."""
    pairs = list(zip(requirements, judged, strict=True))
    barred = {need.part for need, judgement in pairs if _is_barred(need, judgement)}
    rest = sorted({"the root" if need.part == "." else need.part for need in requirements if need.part not in barred})
    if rest:
        return Remedy(say=f"these parts ask for no other platform: {', '.join(rest)}")
    return Remedy(say="here you can read its needs and look for its tools; you cannot run it")
