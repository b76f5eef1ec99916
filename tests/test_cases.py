"""Small checkouts as a specialist of each ecosystem reads them: `tests/cases/*.toml`, one table for each ecosystem.

`needs` are rows of `subject | strength | file:line | versions that are accepted | versions that are refused`, where `?` as
an accepted version means that what is wanted is told as unknown; the last three may be left out. `never` are subjects that
nothing asks for, `conflict` and `drift` those that are told as such (none where they are left out).
"""

from __future__ import annotations

import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from dokimon.core.declarations.checkout import find_checkout
from dokimon.core.declarations.declared import read_declarations
from dokimon.core.declarations.requirement import Requirement
from dokimon.core.judging.agreement import agreements, drifts
from dokimon.core.machine.catalogue import Catalogue

FOLDER = Path(__file__).with_name("cases")
CASES = [
    pytest.param(case, id=f"{path.stem}: {case['is']}")
    for path in sorted(FOLDER.glob("*.toml"))
    for case in tomllib.loads(path.read_text("utf-8"))["case"]
]


def rows(needs: list[str]) -> Iterator[tuple[str, str, str, list[str], list[str]]]:
    for row in needs:
        cells = [cell.strip() for cell in row.split("|")] + [""] * 4
        yield cells[0], cells[1] or "required", cells[2], cells[3].split(), cells[4].split()


def strength_of(need: Requirement) -> str:
    return "fact" if need.subject.kind == "fact" else need.strength


def admits(need: Requirement, version: str) -> bool:
    return need.constraint is None or need.constraint.admits(version)


def found_for(needs: list[Requirement], label: str, strength: str, place: str) -> list[Requirement]:
    fitting = [each for each in needs if each.label == label and strength_of(each) == strength]
    return [each for each in fitting if not place or each.source.place == place]


@pytest.mark.parametrize("case", CASES)
def test_what_a_specialist_reads(tmp_path: Path, case: dict[str, Any]) -> None:
    (tmp_path / ".git").mkdir()
    for name, content in case["files"].items():
        path = tmp_path / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(content, "utf-8")
    needs = read_declarations(find_checkout(tmp_path))
    shown = [(each.label, strength_of(each), each.source.place, each.wanted, each.fault) for each in needs]
    for label, strength, place, accepted, refused in rows(case.get("needs", [])):
        found = found_for(needs, label, strength, place)
        assert found, (label, strength, place, shown)
        if accepted == ["?"]:
            assert any(each.fault for each in found), (label, shown)
            continue
        assert not any(each.fault for each in found), (label, shown)
        for version in accepted:
            assert any(admits(each, version) for each in found), (label, f"should accept {version}", shown)
        for version in refused:
            assert not all(admits(each, version) for each in found), (label, f"should refuse {version}", shown)
    for label in case.get("never", []):
        asked = [each for each in needs if each.label == label and strength_of(each) != "fact"]
        assert not asked, (label, shown)
    found_together = agreements(needs, Catalogue())
    conflicting = sorted({each.subject for each in found_together if each.between})
    assert conflicting == sorted(case.get("conflict", [])), shown
    drifted = sorted({needs[each.advice].label for each in drifts(needs, found_together)})
    assert drifted == sorted(case.get("drift", [])), shown


README = Path(__file__).with_name("readme_lines.toml")


def test_lines_of_a_readme(tmp_path: Path) -> None:
    """Each of what is wanted is `tool: versions that are accepted not versions that are refused`, or a subject alone."""
    for line, wanted in tomllib.loads(README.read_text("utf-8"))["lines"].items():
        (tmp_path / "README.md").write_text(
            f"# Tides\n\n## Prerequisites\n\n{line}\n\n## Usage\n\nNode.js 99 or newer\n", "utf-8"
        )
        needs = {need.label: need for need in read_declarations(find_checkout(tmp_path))}
        assert list(needs) == [each.partition(":")[0] for each in wanted], line
        for each in wanted:
            label, _, versions = each.partition(": ")
            accepted, _, refused = versions.partition(" not ")
            assert all(admits(needs[label], version) for version in accepted.split()), (line, each)
            assert not any(admits(needs[label], version) for version in refused.split()), (line, each)


def test_every_case_can_fail() -> None:
    for param in CASES:
        case = param.values[0]
        assert case.get("needs") or case.get("never"), case["is"]
