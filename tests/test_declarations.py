"""Reading what a checkout declares."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dokimon.core.declarations.checkout import find_checkout
from dokimon.core.declarations.declared import read_declarations
from dokimon.core.reading.json_places import json_line
from dokimon.core.reading.manifest import LARGEST_BYTES
from dokimon.core.reading.toml_lines import toml_line

PACKAGE = """{
  "name": "board",
  "engines": {
    "node": ">=18.17 <23",
    "npm": ">=10"
  },
  "packageManager": "npm@10.2.4+sha512.abc"
}
"""
BOM = b"\xef\xbb\xbf"


def read(folder: Path, files: dict[str, str | bytes]) -> list[tuple[str, str, str]]:
    """Return tool, wanted (or `!` for a fault) and source of each requirement."""
    (folder / ".git").mkdir()
    for name, content in files.items():
        (folder / name).write_bytes(content if isinstance(content, bytes) else content.encode())
    return [
        (each.tool, "!" if each.fault else each.wanted, f"{each.source.file}:{each.source.line}")
        for each in read_declarations(find_checkout(folder))
    ]


@pytest.mark.parametrize(
    "files, expected",
    [
        (
            {"package.json": PACKAGE},
            [("node", ">=18.17 <23", "package.json:4"), ("npm", ">=10", "package.json:5"),
                ("npm", "10.2.4", "package.json:7")],
        ),
        ({"package.json": "{}"}, [("node", "any version", "package.json:1"), ("npm", "any version", "package.json:1")]),
        ({"package.json": "{}", "pnpm-lock.yaml": ""}, [("node", "any version", "package.json:1"),
            ("pnpm", "any version", "pnpm-lock.yaml:1")]),
        ({"package.json": BOM + b'{"engines": {"node": "20"}, "packageManager": "yarn@4.1.0"}'},
            [("node", "20", "package.json:1"), ("yarn", "4.1.0", "package.json:1")]),
        ({"package.json": '{"engines": ["node >= 0.8"], "packageManager": "npm@9.0.0"}'},
            [("node", ">= 0.8", "package.json:1"), ("npm", "9.0.0", "package.json:1")]),
        ({".nvmrc": "# the boats' own\n\nlts/iron\n"}, [("node", "lts/iron", ".nvmrc:3")]),
        ({".node-version": "v20.11.1"}, [("node", "v20.11.1", ".node-version:1")]),
        ({"pyproject.toml": '[project]\nname = "tides"\nrequires-python = ">=3.11"\n'},
            [("python", ">=3.11", "pyproject.toml:3")]),
        ({"pyproject.toml": '[project]\nname = "tides"\n'}, [("python", "any version", "pyproject.toml:1")]),
        ({"pyproject.toml": "[tool.other]\nrequires-python = 1\n"}, []),
        ({"pyproject.toml": "[tool.other]\n[build-system]\nrequires = []"},
            [("python", "any version", "pyproject.toml:2")]),
        ({".python-version": "3.12\n3.11.2\n"}, [("python", "==3.12.*", ".python-version:1")]),
        ({".python-version": "3.12.4"}, [("python", "==3.12.4", ".python-version:1")]),
        ({"manage.py": "", "requirements.txt": "django"}, [("python", "any version", "requirements.txt:1")]),
        # What cannot be read leaves an unknown behind, with its line, and does not hide the rest.
        ({"package.json": '{\n  "engines": {,\n}', ".nvmrc": "20"},
            [("node", "!", "package.json:2"), ("node", "20", ".nvmrc:1")]),
        ({"package.json": "[1]"}, [("node", "!", "package.json:1")]),
        ({"package.json": '{"engines": 3, "packageManager": "npm@9.0.0"}'},
            [("node", "!", "package.json:1"), ("npm", "9.0.0", "package.json:1")]),
        ({"package.json": '{"engines": {\n"node": 18}, "packageManager": "npm"}'},
            [("node", "!", "package.json:2"), ("npm", "!", "package.json:2")]),
        ({"package.json": '{"engines": {"node": ">=new"}, "packageManager": "npm@9.0.0"}'},
            [("node", "!", "package.json:1"), ("npm", "9.0.0", "package.json:1")]),
        ({"package.json": b'{"name": "\xff\xfe"}'}, [("node", "!", "package.json:1")]),
        ({"package.json": "[" * 200_000}, [("node", "!", "package.json:1")]),
        ({"package.json": b" " * (LARGEST_BYTES + 1)}, [("node", "!", "package.json:1")]),
        ({"pyproject.toml": "[project]\nname = tides\n"}, [("python", "!", "pyproject.toml:2")]),
        ({"pyproject.toml": 'project = "tides"'}, [("python", "!", "pyproject.toml:1")]),
        ({"pyproject.toml": "[project]\nrequires-python = 3.11\n"}, [("python", "!", "pyproject.toml:2")]),
        ({".python-version": "pypy3.10"}, [("pypy", "any version", ".python-version:1")]),
        ({".python-version": "\n"}, [("python", "!", ".python-version:1")]),
        ({".nvmrc": "latest-and-greatest"}, [("node", "!", ".nvmrc:1")]),
    ],
)  # fmt: skip
def test_files_and_what_they_declare(tmp_path: Path, files: dict[str, str | bytes], expected: list[object]) -> None:
    assert read(tmp_path, files) == expected


def test_only_what_the_package_manager_looks_at_is_required(tmp_path: Path) -> None:
    package = '{"engines": {"node": ">=18", "yarn": "please use npm", "npm": ">=9", "editor": "^1.90"}}'
    (tmp_path / "package.json").write_text(package)
    found = {each.tool: each.strength for each in read_declarations(find_checkout(tmp_path))}
    assert found == {"node": "required", "yarn": "advised", "npm": "required", "editor": "advised"}


def test_links_are_not_followed_out_of_the_checkout(tmp_path: Path) -> None:
    (tmp_path / "secret").write_text("20")
    (tmp_path / "checkout").mkdir()
    (tmp_path / "checkout/.nvmrc").symlink_to(tmp_path / "secret")
    (tmp_path / "checkout/.node-version").symlink_to(".node-version")
    found = read(tmp_path / "checkout", {})
    assert found == [
        ("node", "!", ".nvmrc:1"),
        ("node", "!", ".node-version:1"),
    ]


def test_the_root_is_found_upward_and_speaks_for_what_lies_below(tmp_path: Path) -> None:
    (tmp_path / ".git").mkdir()
    (tmp_path / ".nvmrc").write_text("20")
    (tmp_path / "board/src").mkdir(parents=True)
    (tmp_path / "board/package.json").write_text('{"engines": {"node": ">=18"}, "packageManager": "npm@9.0.0"}')
    checkout = find_checkout(tmp_path / "board/src")
    assert (checkout.root, checkout.project) == (tmp_path, tmp_path / "board")
    assert [each.source.file for each in read_declarations(checkout)] == [
        ".nvmrc",
        "board/package.json",
        "board/package.json",
    ]


def test_a_setup_py_inside_a_package_is_another_module(tmp_path: Path) -> None:
    (tmp_path / "tides/models").mkdir(parents=True)
    (tmp_path / "tides/models/__init__.py").touch()
    (tmp_path / "tides/models/setup.py").write_text("setup(python_requires='>=99')")
    assert read(tmp_path, {"setup.py": "setup(python_requires='>=3.9')"}) == [("python", ">=3.9", "setup.py:1")]


def test_a_folder_that_nothing_marks_is_not_walked(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Called in the home folder, or anywhere, Dokimon does not read a whole disk."""
    (tmp_path / "far/below").mkdir(parents=True)
    (tmp_path / "far/below/package.json").write_text("{}")
    (tmp_path / ".nvmrc").write_text("20")
    assert [each.source.file for each in read_declarations(find_checkout(tmp_path))] == [".nvmrc"]
    (tmp_path / ".git").mkdir()
    assert len(read_declarations(find_checkout(tmp_path))) == 2
    monkeypatch.setenv("HOME", str(tmp_path))
    assert [each.source.file for each in read_declarations(find_checkout(tmp_path))] == [".nvmrc"]


JSON_VALUES = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=5),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=4), inner, max_size=3),
    max_leaves=12,
)


@given(st.dictionaries(st.text(max_size=4), JSON_VALUES, min_size=1, max_size=4))
def test_json_lines_are_found_for_every_value(value: dict[str, object]) -> None:
    """Printed with an indent, each value stands on a line of its own: a marked one is found on its line."""
    paths = []

    def walk(inside: object, path: tuple[str | int, ...]) -> None:
        paths.append(path)
        pairs = inside.items() if isinstance(inside, dict) else enumerate(inside) if isinstance(inside, list) else ()
        for key, each in pairs:
            walk(each, (*path, key))

    walk(value, ())
    text = json.dumps(value, indent=1)
    for path in paths:
        below = [p for p in paths if p[: len(path)] == path]
        earlier = paths[: paths.index(path)]
        line = json_line(text, path)
        assert 1 <= line <= text.count("\n") + 1
        assert all(json_line(text, p) <= line for p in earlier) and all(json_line(text, p) >= line for p in below)
        if path and isinstance(path[-1], str):
            assert json.dumps(path[-1]) in text.splitlines()[line - 1]


@pytest.mark.parametrize(
    "keys, line",
    [
        (("format",), 1), (("need", 0), 3), (("need", 0, "tool"), 4), (("need", 1, "version"), 8),
        (("run", 0, "up", "line"), 11), (("a b", "c.d"), 13), (("nowhere",), 1), (("need", 0, "nowhere"), 3),
    ],
)  # fmt: skip
def test_toml_lines(keys: tuple[str | int, ...], line: int) -> None:
    text = (
        'format = 1\n\n[[need]]\ntool = "node"\n\n[[need]] # another\ntool = "git"\nversion = "2"\n\n'
        '[[run]]\nup = { line = "x" }\n["a b"]\n"c.d" = 1\n'
    )
    assert toml_line(text, keys) == line
