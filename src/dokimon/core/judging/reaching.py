"""A command that was asked about by name: why it is not reached, and how it will be, now and for good."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from dokimon.core.declarations.requirement import any_version
from dokimon.core.judging.remedies import remedies
from dokimon.core.judging.values import Machine
from dokimon.core.judging.verdicts import verdict_on
from dokimon.core.machine.shell import put_first_for_good, shell_in_use
from dokimon.core.report.model import Answer, Remedy
from dokimon.core.source import Source
from dokimon.core.text import clean

_ASKED = Source("", 1, "")
_MOST = 4


def answer_for(command: str, machine: Machine) -> Answer | None:
    """Return what there is to say of a tool or command that is not reached; None where it is."""
    need = any_version(command, _ASKED)
    judgement = verdict_on(need, machine)
    if judgement is None or judgement.verdict == "met":
        return None
    steps = remedies(need, judgement, machine)
    copy = judgement.copy
    if judgement.verdict == "off-path" and copy and not copy.other_name:
        steps = (*steps, *for_good(Path(copy.program).parent, machine.environment))
    return Answer(
        command=clean(command, 120), verdict=judgement.verdict, reason=clean(judgement.reason), remedies=steps[:_MOST]
    )


def for_good(folder: Path, environment: Mapping[str, str]) -> tuple[Remedy, ...]:
    """Return how a folder is put on PATH for good, or that a new terminal is enough."""
    home = environment.get("HOME", "")
    if not home:
        return ()
    lasting = put_first_for_good([str(folder)], shell_in_use(environment), home)
    if lasting.there:
        return (Remedy(f"{lasting.there} does so already: open a new terminal"),)
    if lasting.file is None:
        return (Remedy("for good: give this command once", lasting.line),)
    return (Remedy(f"for good: add this line to {lasting.file}", lasting.line),)
