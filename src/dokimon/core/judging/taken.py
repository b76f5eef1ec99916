"""Where the tool itself takes one of several versions that are installed, all needs of that folder are of that one."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import msgspec

from dokimon.core.declarations.global_json import NAME, read_text
from dokimon.core.declarations.requirement import Requirement
from dokimon.core.declarations.subjects import ComponentSubject
from dokimon.core.files import text_of
from dokimon.core.judging.comparing import held
from dokimon.core.judging.scopes import Scopes
from dokimon.core.judging.values import Judgement, Machine
from dokimon.core.report.model import Found
from dokimon.core.versions import compiled

_LARGEST = 1024 * 1024


class _Choice(msgspec.Struct, frozen=True):
    """What chooses, in words, and the version that it takes: none where it accepts none that is here."""

    by: str
    found: Found | None
    wants: str


def with_what_is_taken(
    requirements: Sequence[Requirement], judged: Sequence[Judgement | None], machine: Machine
) -> list[Judgement | None]:
    """Return the judgements with those that are met by a version which is not the one that is taken there as unmet.

    Which SDK of .NET is taken says the nearest `global.json`, in the checkout or above it, for all folders below it.
    """
    sdks = [index for index, each in enumerate(requirements) if _is_of_sdks(each)]
    changed = list(judged)
    if not sdks:
        return changed
    scopes = Scopes(requirements)
    pins = [index for index in sdks if requirements[index].source.file.rpartition("/")[2] == NAME]
    above = _above(machine)
    for index in sdks:
        governing = [by for by in pins if by != index and scopes.governs(by, scopes.place(index))]
        if index in pins:
            continue
        choice = _of_pin(requirements, judged, governing) if governing else above
        changed[index] = _of_that_one(requirements[index], changed[index], choice)
    return changed


def _is_of_sdks(need: Requirement) -> bool:
    return need.tool == "dotnet" and need.component == "sdk"


def _of_pin(
    requirements: Sequence[Requirement], judged: Sequence[Judgement | None], governing: Sequence[int]
) -> _Choice | None:
    for by in governing:
        judgement, need = judged[by], requirements[by]
        if need.constraint and judgement and judgement.verdict == "met":
            return _Choice(need.source.place, judgement.found, need.accepts)
    return None


def _above(machine: Machine) -> _Choice | None:
    """Return what the nearest `global.json` above the checkout takes; the host goes upward to the root folder."""
    path = next((folder / NAME for folder in machine.root.parents if (folder / NAME).is_file()), None)
    asked = read_text(text_of(path, _LARGEST)) if path else None
    reached = machine.reached("dotnet")
    if path is None or asked is None or asked.wanted is None or reached is None:
        return None
    constraint = compiled("sdk-rollforward", asked.wanted)
    here = dict(_sdks(machine, reached.path))
    taken = constraint.taken(list(here)) if constraint.taken else None
    found = Found(path=here[taken], version=taken, known_by="file") if taken else None
    return _Choice(str(path), found, constraint.in_words)


def _sdks(machine: Machine, copy: str) -> Iterator[tuple[str, str]]:
    for each in machine.components:
        if (each.tool, each.name, each.of) == ("dotnet", "sdk", copy) and each.version:
            yield each.version, each.path or copy


def _of_that_one(need: Requirement, judgement: Judgement | None, choice: _Choice | None) -> Judgement | None:
    if not (choice and judgement and judgement.verdict == "met" and isinstance(need.subject, ComponentSubject)):
        return judgement
    if choice.found is None or choice.found.version is None:
        return Judgement(
            verdict="unmet", reason=f"{choice.by} wants {choice.wants}, and no SDK here is", found=judgement.found
        )
    if need.constraint is None:
        return msgspec.structs.replace(judgement, found=choice.found)
    again = held(need.constraint, choice.found.version, found=choice.found)
    if again.verdict == "met":
        return again
    return msgspec.structs.replace(again, reason=f"{choice.by} takes {choice.found.version}: {again.reason}")
