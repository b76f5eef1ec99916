"""Where the tool itself takes one of several versions that are installed, all needs of that folder are of that one."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from dokimon.core.declarations.requirement import Requirement
from dokimon.core.judging.comparing import held
from dokimon.core.judging.scopes import Scopes
from dokimon.core.judging.values import Judgement


def with_what_is_taken(
    requirements: Sequence[Requirement], judged: Sequence[Judgement | None]
) -> list[Judgement | None]:
    """Return the judgements with those that are met by a version which is not the one that is taken there as unmet.

    Which is taken says a need with a constraint that has `taken` (`global.json`), for its folder and those below it.
    """
    chosen = [
        index
        for index, (need, judgement) in enumerate(zip(requirements, judged, strict=True))
        if need.constraint and need.constraint.taken and not getattr(need.subject, "beside", False)
        and judgement and judgement.verdict == "met" and judgement.found
    ]  # fmt: skip
    changed = list(judged)
    scopes = Scopes(requirements) if chosen else None
    for by in chosen:
        for index, need in enumerate(requirements):
            is_other = index != by and need.subject == requirements[by].subject
            if scopes and is_other and scopes.governs(by, scopes.place(index)):
                changed[index] = _of_that_one(need, changed[index], requirements[by], changed[by])
    return changed


def _of_that_one(
    need: Requirement, judgement: Judgement | None, by: Requirement, chosen: Judgement | None
) -> Judgement | None:
    version = chosen.found.version if chosen and chosen.found else None
    if not (judgement and judgement.verdict == "met" and need.constraint and version and chosen):
        return judgement
    again = held(need.constraint, version, found=chosen.found)
    if again.verdict == "met":
        return again
    return msgspec.structs.replace(again, reason=f"{by.source.place} takes {version}: {again.reason}")
