"""One requirement compared with the machine: its subject says by which rule."""

from __future__ import annotations

import msgspec

from dokimon.core.declarations.requirement import ChoiceSubject, Requirement
from dokimon.core.declarations.subjects import (
    ComponentSubject,
    FactSubject,
    PathSubject,
    PlatformSubject,
    ServiceSubject,
    SizeSubject,
    ToolSubject,
    VariableSubject,
)
from dokimon.core.judging.component_verdicts import judge_component
from dokimon.core.judging.deciding import (
    as_decided,
    with_fetched_go,
    with_java_home,
    with_named_environment,
    with_other_command,
    with_policy,
    with_runtime,
)
from dokimon.core.judging.surroundings import judge_path, judge_platform, judge_service, judge_size, judge_variable
from dokimon.core.judging.tool_verdicts import judge_tool
from dokimon.core.judging.values import Judgement, Machine


def verdict_on(need: Requirement, machine: Machine) -> Judgement | None:
    """Hold one requirement against the machine; None for a fact, which asks for nothing."""
    if need.fault and not isinstance(need.subject, FactSubject):
        if named := with_named_environment(need, machine):
            return named
        return Judgement(verdict="unknown", reason=need.fault)
    match need.subject:
        case FactSubject():
            return None
        case ToolSubject(tool=name):
            here = as_decided(need, machine)
            judgement = with_other_command(need, here, judge_tool(name, need.constraint, here))
            judgement = with_fetched_go(need, here, judgement)
            return with_java_home(need, machine, with_runtime(judgement, here))
        case ComponentSubject() as subject:
            return judge_component(subject, with_policy(need, machine), as_decided(need, machine))
        case VariableSubject() as subject:
            return judge_variable(subject, machine)
        case PathSubject() as subject:
            return judge_path(subject, machine)
        case PlatformSubject() as subject:
            return judge_platform(subject)
        case SizeSubject() as subject:
            return judge_size(subject, machine)
        case ServiceSubject() as subject:
            return judge_service(subject, need.constraint, machine)
        case ChoiceSubject() as subject:
            return _judge_choice(subject, machine)


def _judge_choice(subject: ChoiceSubject, machine: Machine) -> Judgement:
    """The first that is met counts; where none is, all of them are reported."""
    judged = [(each, judgement) for each in subject.choices if (judgement := verdict_on(each, machine))]
    choices = tuple(judgement for _, judgement in judged)
    for each, judgement in judged:
        if judgement.verdict == "met":
            return msgspec.structs.replace(judgement, reason=f"{each.tool}: {judgement.reason}", choices=choices)
    reason = "; ".join(f"{each.tool}: {judgement.reason}" for each, judgement in judged)
    verdicts = {judgement.verdict for judgement in choices}
    for verdict in ("unknown", "unmet"):
        if verdict in verdicts:
            return Judgement(verdict=verdict, reason=reason, choices=choices)
    return Judgement(verdict="missing", reason=reason, choices=choices)
