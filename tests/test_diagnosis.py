"""Diagnosis: each known cause against real output, shown and not shown; and failures diagnosed through the program."""

from __future__ import annotations

import re
import runpy
import warnings
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dokimon.core.diagnosis.causes import cause_patterns, known_causes
from dokimon.core.diagnosis.diagnosing import diagnose, telling_line
from dokimon.core.diagnosis.needed_words import words_of
from dokimon.core.machine.catalogue import Catalogue
from dokimon.core.processes.output import Output
from dokimon.core.smoking.looking_up import looks


@pytest.mark.parametrize("name", known_causes())
def test_what_shows_a_cause_and_what_does_not(name: str) -> None:
    for line in known_causes()[name].shown:
        told = diagnose(["something before", line, "something after"], 1)
        assert told and (told[0].name, told[0].line) == (name, line), told
        assert "{" not in told[0].cause and "[:" not in told[0].cause and told[0].cause and told[0].remedies
    for line in known_causes()[name].not_shown:
        assert name not in [each.name for each in diagnose([line], 0)], line


def test_every_cause_has_samples_both_ways_and_a_step() -> None:
    for name, cause in known_causes().items():
        assert cause.shown and cause.not_shown and cause.steps, name


@pytest.mark.parametrize(
    "lines, telling",
    [
        (["starting", "Traceback (most recent call last):", '  File "x.py", line 1', "quay.Closed", "LampError: it is out"],
            "LampError: it is out"),
        (["Exception in thread main", "java.lang.RuntimeException: x", "  at quay.Main", "Caused by: quay.Ebb: low water",
            "  ... 3 more"], "Caused by: quay.Ebb: low water"),
        (["0 errors", "warning: failed tide", "the lamp could not be lit", "error again"], "the lamp could not be lit"),
        (["all is well"], None),
    ],
)  # fmt: skip
def test_the_most_telling_line_is_found_where_no_cause_is_known(lines: list[str], telling: str | None) -> None:
    assert telling_line(lines) == telling
    found = [each.line for each in diagnose(lines, None)]
    assert found == ([telling] if telling else [])


def test_what_is_not_there_is_never_a_remedy(tmp_path: Path) -> None:
    """An example that lies beside is named, with the command; a package that nothing declares is to be added."""
    known = looks({}, tmp_path, Catalogue())
    missing = ["FileNotFoundError: [Errno 2] No such file or directory: 'conf/board.yaml'"]
    module = ["Error: Cannot find module 'tern'"]
    assert [each.command for each in diagnose(missing, 1, known)[0].remedies] == [None]
    (tmp_path / "conf").mkdir()
    (tmp_path / "conf/board.example.yaml").touch()
    assert diagnose(missing, 1, known)[0].remedies[0].command == "cp conf/board.example.yaml conf/board.yaml"
    (tmp_path / "package.json").write_text('{"dependencies": {"heron": "1"}}')
    assert [each.command for each in diagnose(module, 1, known)[0].remedies] == ["npm install tern"]
    (tmp_path / "package.json").write_text('{"dependencies": {"tern": "1"}}')
    assert [each.command for each in diagnose(module, 1, known)[0].remedies] == ["npm install"]


@pytest.mark.parametrize(
    "files, module, says, command",
    [
        ({"setup.py": "install_requires=['flask']"}, "six", "six is not declared in setup.py", "python -m pip install six"),
        ({"setup.py": "install_requires=['flask']"}, "engine", "engine is not declared in setup.py, nor anywhere", None),
        ({"requirements.txt": "Flask\nPyYAML>=6\n"}, "yaml", "requirements.txt declares PyYAML",
            "python -m pip install -r requirements.txt"),
        ({"pyproject.toml": "dependencies = ['tide_tables>=1']"}, "tide_tables.low", "pyproject.toml declares tide_tables",
            "python -m pip install -e ."),
        ({"pyproject.toml": "dependencies = ['tide-tables-more']"}, "tide_tables", "is not declared", None),
        ({"requirements/dev.txt": "tern\n", ".venv/pyvenv.cfg": ""}, "tern", "requirements/dev.txt declares tern",
            ".venv/bin/python -m pip install -r requirements/dev.txt"),
        ({}, "tern", "install the project's requirements", None),
    ],
)  # fmt: skip
def test_where_the_package_of_a_python_module_is_declared(
    tmp_path: Path, files: dict[str, str], module: str, says: str, command: str | None
) -> None:
    for name, text in files.items():
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).write_text(text)
    line = f"ModuleNotFoundError: No module named '{module}'"
    (remedy,) = diagnose([line], 1, looks({}, tmp_path, Catalogue()))[0].remedies
    assert says in remedy.say and remedy.command == command, remedy


def test_the_installer_of_another_system_is_no_remedy(tmp_path: Path) -> None:
    line = "The virtual environment was not created successfully because ensurepip is not"
    bare = looks({"PATH": str(tmp_path)}, tmp_path / "checkout", Catalogue())
    assert [step.command for step in diagnose([line], 1, bare)[0].remedies] == [None]
    (tmp_path / "apt-get").write_text("#!/bin/sh\n")
    (tmp_path / "apt-get").chmod(0o755)
    (step,) = diagnose([line], 1, bare | looks({"PATH": str(tmp_path)}, tmp_path / "checkout", Catalogue()))[0].remedies
    assert step.command and step.command.startswith("sudo apt-get install ")


_CHARS = st.sampled_from(
    [*"aB1 ]}", r"\.", r"\d", r"\w", r"\b", r"\x41", r"\t", ".", "^", "$", "[ab]", "[]b]", "[^a]", r"[\]a]"]
)


def _deeper(patterns: st.SearchStrategy[str]) -> st.SearchStrategy[str]:
    groups = st.tuples(st.sampled_from(["(?:", "(", "(?=", "(?!", "(?i:"]), patterns).map(
        lambda each: f"{each[0]}{each[1]})"
    )
    repeated = st.tuples(patterns, st.sampled_from(["?", "*", "+", "{2}", "{0,1}", "??", "+?", "{,2}"]))
    repeated_group = repeated.map(lambda each: f"(?:{each[0]}){each[1]}")
    joined = st.lists(patterns, min_size=2, max_size=5).map("".join)
    return groups | repeated_group | repeated.map("".join) | joined | st.lists(patterns, max_size=3).map("|".join)


_WORDS = st.sampled_from(["abc", "BaB1", "aaa a", "]}a1"])
_TEXTS = _WORDS | _WORDS | st.sampled_from([*"aB1 ]}A.\t\u017f\u0131"])


@given(
    st.sampled_from(["", "(?i)", "(?s)"]),
    st.recursive(_WORDS | _WORDS | _CHARS, _deeper, max_leaves=8),
    st.lists(_TEXTS, max_size=8).map("".join),
)
def test_what_a_pattern_is_found_in_holds_its_words(flags: str, body: str, text: str) -> None:
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # "possible nested set" and the like
        try:
            found = re.search(f"{flags}{body}", text)
        except re.error:  # nothing to repeat
            return
    if found:
        assert words_of(f"{flags}{body}").may_be_in(text, text.lower()), (flags, body, text)


@pytest.mark.parametrize(
    "pattern, words",
    [
        (r"EADDRINUSE.*:(?P<port>\d+)", ("EADDRINUSE",)),
        ("cannot find|(?:no|not) there", ("cannot find", " there")),
        ("(?i)Fatal: x?", ("fatal: ",)),
        (r"a?bcd{2}efg+h\.ij", ("h.ij",)),
        ("[abc]]def", ("]def",)),
        ("[]abcd]efg", ("efg",)),
        (r"[^]\]abc]efg", ("efg",)),
        ("longer|(?:a|b)", ()),
        ("(?x) spaced out # so", ()),
    ],
)
def test_which_words_a_pattern_needs(pattern: str, words: tuple[str, ...]) -> None:
    assert words_of(pattern).any_of == words


def test_most_patterns_are_passed_over_for_most_lines() -> None:
    line = "webpack compiled 214 modules in 1840 ms, warning: the bundle is larger than 244 KiB"
    tried = [each for each in cause_patterns() if each.words.may_be_in(line, line.lower())]
    assert len(tried) < len(cause_patterns()) / 10


@pytest.mark.parametrize(
    "line, command",
    [
        ("m.go:3:8: no required module provides package $(touch${IFS}x); to add it:", "go get '$(touch${IFS}x)'"),
        ("m.go:3:8: no required module provides package -modfile=x; to add it:", None),
        ("make: ./$(id): Permission denied", "chmod +x './$(id)'"),
        ("make: -R/x: Permission denied", None),
        ("run.sh;id: line 2: $'\\r': command not found", "sed -i 's/\\r$//' 'run.sh;id'"),
        ("make: ./run.sh: Permission denied", "chmod +x ./run.sh"),
    ],
)
def test_what_a_run_prints_is_one_word_of_a_command_and_no_option(line: str, command: str | None) -> None:
    assert [step.command for step in diagnose([line], 1)[0].remedies][:1] == [command]


def test_the_exception_that_the_others_came_from_is_told(tmp_path: Path) -> None:
    (tmp_path / "Board.cs").write_text("")
    lines = [
        "Unhandled exception. System.InvalidOperationException: the board did not start",
        " ---> System.IO.IOException: the gauge is gone",
        "   at System.IO.Stream.Read()",
        f"   at Board.Load() in {tmp_path}/Board.cs:line 7",
        "   --- End of inner exception stack trace ---",
        f"   at Board.Main() in {tmp_path}/Board.cs:line 3",
    ]
    (found,) = diagnose(lines, 134, root=tmp_path)
    assert (found.cause, found.at) == ("it threw System.IO.IOException: the gauge is gone", "Board.cs:7")


def test_code_that_a_runtime_quotes_is_not_what_it_said() -> None:
    lines = ["node:internal/child_process:1123", "    result.error = new ErrnoException(result.error);", "", "no tide"]
    assert "ErrnoException" not in str(diagnose(lines, 1))


def test_a_program_that_ends_itself_says_why_before() -> None:
    (found,) = diagnose(["error: the tide is out"], -6)
    assert found.line == "error: the tide is out"


def test_the_head_of_a_long_stack_is_kept() -> None:
    output = Output()
    output._take(b"the tide is out\n" + b"  at rise\n" * 1024, False)
    assert output.kept()[0] == "the tide is out" and len(output.kept()) == 800
    output._take(b"  at rise\n" * 30_000, False)
    assert output.kept()[0] == "the tide is out"


def test_the_page_of_causes_is_that_of_the_data() -> None:
    made = runpy.run_path(str(Path(__file__).parents[1] / ".ci/causes_page.py"))["page"]()
    assert made == (Path(__file__).parents[1] / "docs/causes.md").read_text("utf-8"), "python .ci/causes_page.py"
