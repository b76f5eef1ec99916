"""Diagnosis: each known cause against real output, shown and not shown; and failures diagnosed through the program."""

from __future__ import annotations

import pytest

from dokimon.core.diagnosis.causes import known_causes
from dokimon.core.diagnosis.diagnosing import diagnose

SHOWN = [(name, line) for name, cause in known_causes().items() for line in cause.shown]
NOT_SHOWN = [(name, line) for name, cause in known_causes().items() for line in cause.not_shown]


@pytest.mark.parametrize("name, line", SHOWN)
def test_what_shows_a_cause(name: str, line: str) -> None:
    told = diagnose(["something before", line, "something after"], 1)
    assert told and (told[0].name, told[0].line) == (name, line), told
    assert "{" not in told[0].cause and "[:" not in told[0].cause and told[0].cause and told[0].remedies


@pytest.mark.parametrize("name, line", NOT_SHOWN)
def test_what_does_not_show_a_cause(name: str, line: str) -> None:
    assert name not in [each.name for each in diagnose([line], 0)]


def test_every_cause_has_samples_both_ways_and_a_step() -> None:
    for name, cause in known_causes().items():
        assert cause.shown and cause.not_shown and cause.steps, name
