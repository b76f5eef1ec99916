"""`dokimon.toml`: what is wrong with it is said with its line and what would be right."""

from __future__ import annotations

import json
import tomllib
from pathlib import Path

import jsonschema
import pytest

from dokimon.core.measures import seconds
from dokimon.core.reading.manifest import Manifest
from dokimon.core.settings.read import read_settings
from dokimon.core.settings.schema import SCHEMA_FILE, schema
from dokimon.core.settings.tables import SettingsFault

RUN = '[[run]]\nname = "board"\ncommand = "x"\n'


def manifest(text: str) -> Manifest:
    return Manifest(location="dokimon.toml", name="dokimon.toml", text=text, root=Path())


@pytest.mark.parametrize(
    "text, line, says",
    [
        ("", 1, "the file must say `format = 1`"),
        ("format = 2", 1, "the file must say `format = 1`"),
        ("format = 1\n[need]\n", 2, "write [[need]], with two brackets"),
        ('format = 1\n[[need]]\ntool = "node"\nversoin = "18"', 4,
            'unknown key "versoin" in [[need]]; did you mean "version"?'),
        ("format = 1\n[[nede]]\n", 2, 'unknown key "nede" in dokimon.toml; did you mean "need"?'),
        ('format = 1\n[project]\ntitle = "x"', 3, 'unknown key "title" in [project]; known are name'),
        ('format = 1\n[[need]]\nversion = "18"', 3, '"version" goes with "tool"'),
        ('format = 1\n[[need]]\nwhy = "x"', 2, "[[need]] must have one subject, and has none"),
        ('format = 1\n[[need]]\ntool = "a"\npath = "b"', 2, "has tool and path"),
        ('format = 1\n[[need]]\nsystem = "linus"', 3, '"linus" is not a system; did you mean "linux"?'),
        ('format = 1\n[[need]]\nservice = "redis"', 3, 'a "service" needs the "port"'),
        ('format = 1\n[[need]]\npath = "x"\nwith = ["y"]', 4, '"with" goes with "tool"'),
        ('format = 1\n[[need]]\nany = [{ tool = "a", versoin = "1" }]', 3,
            'unknown key "versoin" in `any` of [[need]]'),
        ('format = 1\n[[need]]\ntool = "node"\nversion = 18', 4,
            '"version" in [[need]] must be text in quotes, not a whole number'),
        ('format = 1\n[[need]]\ntool = "node"\nversion = ">=18,"', 4,
            "\"version\" is not valid: '>=18,': nothing stands here"),
        ('format = 1\n[[need]]\ntool = "node"\nstrength = "must"', 4,
            '"strength" in [[need]] cannot be "must"; it can be required or advised'),
        (f"format = 1\n{RUN}port = 70000", 5, "70000 is not a port"),
        (f'format = 1\n{RUN}port = "8000"', 5, '"port" in [[run]] cannot be "8000"; it can be any'),
        (f"format = 1\n{RUN}up = {{ lien = 'x' }}", 5, 'unknown key "lien" in `up` of [[run]]; did you mean "line"?'),
        (f"format = 1\n{RUN}up = {{ within = '1 day' }}", 5, '"1 day" is not a valid duration; write for example '
            '"60s"'),
        (f"format = 1\n{RUN}up = {{ line = '(' }}", 5, "'(' is not a regular expression"),
        (f"format = 1\n{RUN}{RUN}", 6, 'there is another run named "board"'),
        (f'format = 1\n{RUN}[[smoke]]\nof = "baord"\nget = "/"', 6, 'no run is named "baord"; did you mean "board"?'),
        (f'format = 1\n{RUN}[[smoke]]\nget = "board"', 6, '"get" is a path on the run itself'),
        (f"format = 1\n{RUN}[[smoke]]\nstatus = 200", 5, 'also needs "get"'),
        (f'format = 1\n{RUN}[[smoke]]\nof = "board"', 5, "[[smoke]] checks nothing"),
        ("format = 1\nname = board", 2, "is not valid TOML"),
    ],
)  # fmt: skip
def test_faults_name_the_line_and_the_remedy(text: str, line: int, says: str) -> None:
    with pytest.raises(SettingsFault) as raised:
        read_settings(manifest(text))
    assert [(fault.line, says in fault.says) for fault in raised.value.problems] == [(line, True)], (
        raised.value.problems
    )


def test_all_faults_are_told_at_once() -> None:
    with pytest.raises(SettingsFault) as raised:
        read_settings(
            manifest('format = 1\n[[need]]\ntool = 1\n[[need]]\ntool = "git"\nwhi = "x"\n[[run]]\nname = "a"\n')
        )
    assert [fault.line for fault in raised.value.problems] == [3, 6, 7]


def test_the_example_of_the_documentation_can_be_read() -> None:
    text = (Path(__file__).parents[1] / "docs/configuration.md").read_text("utf-8")
    example = text.split("```toml\n", 1)[1].split("```", 1)[0]
    settings = read_settings(manifest(example))
    assert settings.need and settings.prepare and settings.run and settings.smoke


@pytest.mark.parametrize("text, expected", [("60s", 60), ("1.5m", 90), ("200ms", 0.2), ("1 h", 3600)])
def test_durations(text: str, expected: float) -> None:
    assert seconds(text) == pytest.approx(expected)


def test_the_schema_for_editors_is_the_one_of_the_types_and_knows_what_is_right() -> None:
    shipped = json.loads(SCHEMA_FILE.read_text("utf-8"))
    assert shipped == json.loads(json.dumps(schema()))
    text = (Path(__file__).parents[1] / "docs/configuration.md").read_text("utf-8")
    example = tomllib.loads(text.split("```toml\n", 1)[1].split("```", 1)[0])
    validator = jsonschema.Draft202012Validator(shipped)
    validator.validate(example)
    for wrong in ({"nede": []}, {"need": [{"tol": "git"}]}, {"run": [{"name": "a"}]}, {"lines": {}}, {"format": 2}):
        with pytest.raises(jsonschema.ValidationError):
            validator.validate({"format": 1, **wrong})
