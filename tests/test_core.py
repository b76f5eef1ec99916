"""What every room uses: names in braces, patterns, lines of TOML, faults, and the revision of a checkout."""

from __future__ import annotations

import os
import shutil
import subprocess
import time
import tomllib
import warnings
from pathlib import Path
from typing import Any

import pytest
import tomlkit
from hypothesis import given, settings
from hypothesis import strategies as st

from dokimon.core.at_once import at_once
from dokimon.core.declarations.revision import revision_of
from dokimon.core.faults import Fault
from dokimon.core.patterns import PatternFault, check_pattern, compiled_pattern, search
from dokimon.core.reading.toml_lines import toml_keys, toml_line
from dokimon.core.versions import compiled
from dokimon.core.versions.faults import VersionFault
from dokimon.core.words import filled, filled_for_shell, names_in

WORDS = {"a": "{b}", "b": "tide", "quay.url": "http://localhost:4173", "odd": 'it\'s $HOME `x` "q" \\'}


@pytest.mark.parametrize(
    "text, expected",
    [
        ("no braces", "no braces"),
        ("{b} at {quay.url}/", "tide at http://localhost:4173/"),
        ("{a}", "{b}"),  # a value is text, whatever it holds
        ("{unknown} {b}", "{unknown} tide"),
        ('{"json": "{b}"}', '{"json": "tide"}'),
        ("{}{{b}}", "{}{tide}"),
    ],
)  # fmt: skip
def test_names_in_braces_are_filled_in_once(text: str, expected: str) -> None:
    assert filled(text, WORDS) == expected


def test_unknown_names_and_all_names() -> None:
    assert filled("{x} and {b}", WORDS, missing="it") == "it and tide"
    assert names_in("{b} {quay.url} {b}") == {"b", "quay.url"}


@given(
    st.text(alphabet="ab'\"\\$ `;\n{}&|*~#!", max_size=12),
    st.sampled_from(["{v}", "x{v}y", "'{v}'", '"{v}"', "a'{v}'\"{v}\"{v}"]),
)
@settings(max_examples=25, deadline=None)
def test_a_value_stays_one_word_in_a_shell(value: str, command: str) -> None:
    """Whatever the value and wherever it stands, the shell gets it as it is."""
    line = filled_for_shell(f"printf '%s' {command}", {"v": value})
    printed = subprocess.run(["/bin/sh", "-c", line], capture_output=True, text=True, check=True, timeout=10).stdout
    assert printed == filled(command.replace("'", "").replace('"', ""), {"v": value})


def test_patterns_end_in_time_and_say_what_is_wrong() -> None:
    assert search(r"^tide (\d+)$", "ebb\ntide 7\n") == ("tide 7", "7")
    assert search("heron", "gull") is None
    with pytest.raises(PatternFault, match="is not a regular expression"):
        compiled_pattern("(")
    with pytest.raises(PatternFault, match="took longer"):  # without a limit, it would not end while we live
        search(r"(?:a|aa)+c\d", "a" * 60 + "b", 0.2)


PIECES = [
    *"abc01_ -.^$*+?{}[]()|\\<>=!:#&~,", *(["\\d", "\\w", "\\s", "\\b", "\\B", "\\A", "\\Z", "(?:", "(?=", "(?!",
        "(?<=", "(?<!", "(?P<n>", "(?P=n)", "(?i)", "(?i:", "{2}", "{1,3}", "{,2}", "{2,}"]),
    *(["[a-z]", "[^a]", "[[", "&&", "||", "--", "~~", "*?", "+?", "??", "*+", "++", "\\1", "\\x41", "\\u0041", "\\p",
        "\\L", "\\K", "\\G", "\\R", "\\X", "(?>", "(?#c)", "{e}", "{e<=1}", "(?(1)a|b)", "\\0", "[]a]", "[^]a]",
            "\\-"]),
]  # fmt: skip


@given(st.lists(st.sampled_from(PIECES), min_size=1, max_size=7).map("".join))
@settings(max_examples=400, deadline=None)
def test_what_is_said_to_be_a_pattern_is_one(pattern: str) -> None:
    """The quick look at a pattern never accepts what the engine that runs it refuses, and the other way round."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        verdicts = []
        for check in (check_pattern, compiled_pattern):
            try:
                check(pattern)
                verdicts.append(True)
            except PatternFault:
                verdicts.append(False)
    assert verdicts[0] == verdicts[1]


def test_faults_have_one_base_and_draw_a_mark() -> None:
    fault = Fault("is not right", file="dokimon.toml", line=7)
    assert (str(fault), fault.reason) == ("dokimon.toml:7: is not right", "is not right")
    with pytest.raises(VersionFault) as raised:
        compiled("plain", ">=18, <<20")
    text, mark = raised.value.marked
    assert text == ">=18, <<20" and mark.endswith("^") and len(mark) == raised.value.position + 1
    assert isinstance(raised.value, Fault)


KEYS = st.text(alphabet="ab-_ .\"'\\#[=é\n", min_size=1, max_size=4)
SCALARS = st.one_of(
    st.integers(-9, 9), st.booleans(), st.floats(allow_nan=False, allow_infinity=False, width=16),
    st.text(alphabet="ab\"'\\\n#[]={}, ", max_size=8), st.dates(),
)  # fmt: skip
TABLES = st.recursive(
    st.dictionaries(KEYS, SCALARS, max_size=3),
    lambda inner: st.dictionaries(KEYS, st.one_of(SCALARS, inner, st.lists(SCALARS, max_size=3),
        st.lists(inner, min_size=1, max_size=3)), max_size=4),
    max_leaves=12,
)  # fmt: skip


def ways(data: Any, above: tuple[str | int, ...] = ()) -> set[tuple[str | int, ...]]:
    """The way to every value of parsed data."""
    pairs = data.items() if isinstance(data, dict) else enumerate(data) if isinstance(data, list) else ()
    return {way for key, value in pairs for way in ({(*above, key)} | ways(value, (*above, key)))}


@given(TABLES)
@settings(max_examples=120, deadline=None)
def test_the_lines_of_toml_are_those_of_its_values(data: dict[str, Any]) -> None:
    """All that `tomllib` reads has a line, nothing else has, and the text up to that line holds the beginning of it."""
    text = tomlkit.dumps(data)
    assert toml_keys(text) == ways(tomllib.loads(text)), text
    for way in toml_keys(text):
        assert 1 <= toml_line(text, way) <= text.count("\n") + 1


TRICKY = '''title = """
[[run]]
name = "not a table"
"""
other = \'\'\'
[[run]]\'\'\'
a.b . "c d" = 1  # [x]
list = [
  1, # one
  { x = 1, y = { z = [2, 3] } },
  """two
  lines""",
]
[[run]]
name = "board"
"quoted" = \'\'
[run.up]
line = \'x = 1\'
[[run]]
name = "tides"
[ a . "e f" ]
g = 2024-01-01T00:00:00Z
h = """"quoted"""""
i = 1
'''


@pytest.mark.parametrize(
    "keys, line",
    [
        (("title",), 1), (("other",), 5), (("a",), 7), (("a", "b", "c d"), 7), (("list",), 8), (("list", 0), 9),
            (("list", 1, "y", "z", 1), 10),
        (("list", 2), 11), (("run", 0), 14), (("run", 0, "name"), 15), (("run", 0, "up", "line"), 18), (("run", 1), 19),
            (("run", 1, "name"), 20),
        (("a", "e f", "g"), 22), (("a", "e f", "i"), 24), (("run", 1, "nothing"), 19), (("nowhere",), 1),
    ],
)  # fmt: skip
def test_lines_of_a_tricky_file(keys: tuple[str | int, ...], line: int) -> None:
    tomllib.loads(TRICKY)
    assert toml_line(TRICKY, keys) == line


@pytest.mark.skipif(shutil.which("git") is None, reason="no git on this machine")
def test_the_revision_is_read_without_git(tmp_path: Path) -> None:
    """Held against git itself, which is asked by the test alone."""
    variables = {**os.environ, "GIT_CONFIG_GLOBAL": os.devnull, "GIT_CONFIG_SYSTEM": os.devnull, "HOME": str(tmp_path)}

    def git(*arguments: str) -> str:
        who = ("-c", "user.name=gull", "-c", "user.email=gull@saltmarsh.example")
        command = ["git", *who, *arguments]
        return subprocess.run(
            command, cwd=root, env=variables, capture_output=True, text=True, check=True
        ).stdout.strip()

    root = tmp_path / "ferries"
    root.mkdir()
    assert revision_of(root) is None
    git("init", "-q", "-b", "main")
    assert revision_of(root) is not None and revision_of(root).commit is None
    for name in ("a/one.txt", "a/two.txt", "b.txt", "é.txt"):
        (root / name).parent.mkdir(exist_ok=True)
        (root / name).write_text(name)
    (root / "link").symlink_to("b.txt")
    git("add", ".")
    git("commit", "-qm", "first")
    told = revision_of(root)
    assert told == (git("rev-parse", "HEAD"), "main", False)
    os.utime(root / "b.txt", (1, 1))  # another time, the same contents
    assert revision_of(root).changed is False
    (root / "b.txt").write_text("B.txt")
    assert revision_of(root).changed is True
    git("checkout", "-q", "b.txt")
    git("update-index", "--index-version", "4")
    assert revision_of(root).changed is False
    (root / "a/two.txt").unlink()
    assert revision_of(root).changed is True
    git("checkout", "-q", ".")
    git("pack-refs", "--all")
    git("checkout", "-q", "--detach")
    assert revision_of(root)[:2] == (told.commit, None)
    git("worktree", "add", "-q", "../beside", "-b", "channel/buoy")
    assert revision_of(tmp_path / "beside") == (told.commit, "channel/buoy", False)


def test_what_is_no_repository_tells_nothing(tmp_path: Path) -> None:
    (tmp_path / ".git").write_text("gitdir: /etc")
    assert revision_of(tmp_path) is None
    (tmp_path / ".git").unlink()
    (tmp_path / ".git").mkdir()
    for head in ("", "ref: ../../secret", "zzzz", "0" * 40):
        (tmp_path / ".git/HEAD").write_text(head)
        (tmp_path / ".git/index").write_bytes(b"DIRC\0\0\0\2\xff\xff\xff\xff")
        found = revision_of(tmp_path)
        assert found is None or found.changed is None


def test_work_at_once_comes_back_in_order_and_within_its_bound() -> None:
    working: set[int] = set()
    most = 0

    def work(number: int) -> int:
        nonlocal most
        working.add(number)
        most = max(most, len(working))
        time.sleep(0.002 * (5 - number % 5))
        working.discard(number)
        if number in (7, 3):
            raise ValueError(number)
        return number * number

    assert at_once(work, [0, 1, 2, 4, 5, 6], 3) == [0, 1, 4, 16, 25, 36] and 1 < most <= 3
    assert at_once(work, [], 3) == []
    with pytest.raises(ValueError, match="7"):
        at_once(work, [5, 7, 1, 3, 2], 2)
