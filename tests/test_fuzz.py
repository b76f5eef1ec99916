"""A short fuzz of every kind (`tests/fuzz/run.py` goes on for as long as one likes), and what it has found once."""

from __future__ import annotations

import json
import random
import sys
from pathlib import Path

import pytest

sys.path.insert(0, str(Path(__file__).with_name("fuzz")))

from fuzzing import KINDS, SEEDS, reader_of

from dokimon.core.declarations.ecosystems import ECOSYSTEMS
from dokimon.core.declarations.requirement import Requirement
from dokimon.core.reading.manifest import Manifest, ManifestFault, as_toml

CASES = {
    "manifests": 500,
    "pumped manifests": 60,
    "spoilt values": 400,
    "constraints": 3000,
    "settings": 100,
    "answers": 500,
    "repositories": 200,
}


@pytest.mark.fuzz
@pytest.mark.parametrize("kind", KINDS)
def test_nothing_that_nobody_meant_for_us_crashes_takes_long_or_hides_the_rest(kind: str) -> None:
    first = random.randrange(10**9)  # another part of the field each time; a finding names its seed
    for seed in range(first, first + CASES[kind]):
        try:
            KINDS[kind](random.Random(seed))
        except Exception as found:
            raise AssertionError(f"{kind}, seed {seed}: {found}") from found


@pytest.mark.parametrize("kind, seed", [("answers", 275485845)])
def test_what_was_found_once_stays_found(kind: str, seed: int) -> None:
    KINDS[kind](random.Random(seed))


def test_every_reader_has_a_seed() -> None:
    read = [reader_of(name) for name in SEEDS]
    missing = [
        (ecosystem.module, function)
        for ecosystem in ECOSYSTEMS
        for function in ecosystem.readers.values()
        if (ecosystem, function) not in read and function not in ("read_presence",)
    ]
    assert not missing


def needs_of(name: str, text: str) -> list[Requirement]:
    ecosystem, function = reader_of(name)
    made = Manifest(location=f"/nowhere/{name}", name=name, text=text, root=Path("/nowhere"))
    return ecosystem.reader(function)(made)


@pytest.mark.parametrize(
    "name, text, line, says, stays",
    [
        ("package.json", '{"packageManager": "pnpm@9.1.0",\n"devEngines": [1]}', 2, '"devEngines" must be a table', "pnpm"),
        ("package.json", '{"engines": {"node": ">=18"},\n"os": 5}', 2, '"os" must be text or a list', "node"),
        ("composer.json", '{"require": {"php": "^8"},\n"config": []}', 2, '"config" must be a table', "php"),
        ("pyproject.toml", 'project = 5\n[tool.poetry.dependencies]\npython = "^3.9"', 1, '"project" must be', "python"),
        ("pyproject.toml", '[project]\nrequires-python = ">=3.9"\n[build-system]\nrequires = "x"', 4, "must be a list",
            "python"),
        ("Cargo.toml", '[package]\nedition = 2021\n', 2, '"package.edition" must be text or a table', "cargo"),
        ("Pipfile", "[requires]\npython_version = 3.11\n", 2, '"requires.python_version" must be text', None),
        ("rust-toolchain.toml", '[toolchain]\nchannel = "1.70"\ncomponents = "x"', 3, "must be a list", "rustc"),
        ("global.json", '{"sdk": ["8.0.100"]}', 1, '"sdk" must be a table', None),
        ("vcpkg.json", '{"dependencies": {"fmt": 1}}', 1, '"dependencies" must be a list', "vcpkg"),
        ("CMakePresets.json", '{"configurePresets": 3, "cmakeMinimumRequired": {"major": 3}}', 1, "must be a list", "cmake"),
        ("dotnet-tools.json", '{"tools": {"a": {"version": 1}}}', 1, '"tools.a.version" must be text', None),
        ("pubspec.yaml", "environment: 3.0.0\n", 1, '"environment" must name versions', None),
        ("idf_component.yml", "dependencies: idf\n", 1, '"dependencies" must name versions', None),
        (".python-version", "\u00b2\n", 1, "is not a version", None),
        ("package.json", json.dumps({"engines": {"node": "9" * 4400, "npm": ">=9"}}), 1, "is longer than 512", "npm"),
    ],
)  # fmt: skip
def test_a_value_of_the_wrong_kind_is_told_with_its_line_and_hides_nothing(
    name: str, text: str, line: int, says: str, stays: str | None
) -> None:
    found = needs_of(name, text)
    assert [(each.source.line, says in (each.fault or "")) for each in found if each.fault] == [(line, True)], found
    assert stays is None or any(each.tool == stays and not each.fault for each in found), found


@pytest.mark.parametrize(
    "text, line",
    [
        ("a." * 100_000 + "a = 1", 1),
        ("x = 1\n[" + "a." * 100 + "a]", 2),
        ("x = " + "[" * 5000, 1),
        ("a=" + "9" * 5000, 1),
    ],
)
def test_toml_that_would_take_long_to_parse_is_refused_before(text: str, line: int) -> None:
    with pytest.raises(ManifestFault) as fault:
        as_toml(Manifest(location="/x", name="x", text=text, root=Path("/")))
    assert fault.value.line == line and fault.value.reason


def test_dots_that_are_no_key_are_no_depth() -> None:
    text = f'a = "{"1." * 200}"\nb = [{"1.5, " * 100}]\nc.{".".join("d" * 62)} = 1\n'
    assert as_toml(Manifest(location="/x", name="x", text=text, root=Path("/")))["a"].startswith("1.1.")
