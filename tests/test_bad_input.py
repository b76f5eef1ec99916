"""What no manifest should be, and is: nothing of it crashes, hides the rest, takes long, or reaches a terminal raw."""

from __future__ import annotations

import json
import os
import socket
import subprocess
from pathlib import Path
from xml.etree import ElementTree

import pytest
from hypothesis import given
from hypothesis import strategies as st
from markdown_it import MarkdownIt

from conftest import DOKIMON, World
from dokimon.core.declarations.walking import walk
from dokimon.core.reading.manifest import LARGEST_BYTES, Manifest, ManifestFault, open_manifest
from dokimon.core.reading.text import matches, properties
from dokimon.core.reading.xml import as_xml
from dokimon.core.reading.yaml import as_yaml
from dokimon.core.text import as_shown, clean, nearest, without_sequences


def manifest(text: str) -> Manifest:
    return Manifest(location="/x/file", name="file", text=text, root=Path("/x"))


@pytest.mark.parametrize(
    "raw, shown",
    [
        ("plain", "plain"),
        ("\x1b[31mred\x1b[0m", "red"),
        ("\x1b]0;title\x07text", "text"),
        ("\x1b]8;;http://x\x1b\\link\x1b]8;;\x1b\\", "link"),
        ("a\x9b2Jb", "ab"),
        ("tab\tand\nline\r\nend", "tab and line end"),
        ("bell\x07", "bell\N{REPLACEMENT CHARACTER}"),
        ("right\u202eleft\u200b", "right\N{REPLACEMENT CHARACTER}left\N{REPLACEMENT CHARACTER}"),
        ("trailing   ", "trailing"),
        ("\ud800lone", "\N{REPLACEMENT CHARACTER}lone"),
        ("café 船", "café 船"),
    ],
)  # fmt: skip
def test_text_from_outside_is_made_safe(raw: str, shown: str) -> None:
    assert clean(raw) == shown


@given(st.text(max_size=60), st.integers(2, 40))
def test_clean_text_is_one_bounded_printable_line(text: str, limit: int) -> None:
    made = clean(text, limit)
    assert len(made) <= limit and made.isprintable() | any(ord(c) >= 0xE000 or not c.isprintable() for c in made)
    assert not any(ord(c) < 32 or 127 <= ord(c) < 160 for c in made)
    assert clean(made, limit) == made


def test_other_text_helpers() -> None:
    assert as_shown("10 %\r50 %\r100 %\r\n") == "100 %"
    assert without_sequences("\x1b[1mtwo\x1b[0m\nlines") == "two\nlines"
    assert nearest("versoin", ["version", "tool"]) == "version" and nearest("zzz", ["tool"]) is None
    assert clean("x" * 1_000_000, 10) == "x" * 9 + "…"


@pytest.mark.parametrize(
    "text, line",
    [
        ("", 1),
        ("a: [1", 2),
        ("a: 1\n b: 2\n: c", 2),
        ("a: &x [*x]\n", None),
        ("[" * 5000, 1),
        ("x" * (1024 * 1024 + 1), 1),
        ("a: !!python/object/apply:os.system ['true']\n", None),
    ],
)  # fmt: skip
def test_yaml_that_is_broken_or_meant_to_harm(text: str, line: int | None) -> None:
    if line is None:
        assert as_yaml(manifest(text)).get("a") is not None  # composed, never constructed
        return
    with pytest.raises(ManifestFault) as fault:
        as_yaml(manifest(text))
    assert fault.value.line == line


def test_yaml_aliases_do_not_grow(tmp_path: Path) -> None:
    bomb = "a: &a [x, x, x, x, x, x, x, x, x]\n"
    for name, above in zip("bcdefghij", "abcdefghi", strict=True):
        bomb += f"{name}: &{name} [{', '.join(f'*{above}' for _ in range(9))}]\n"
    assert as_yaml(manifest(bomb)).get("environment", "sdk") is None


@pytest.mark.parametrize(
    "text, says",
    [
        ("", "not valid XML"),
        ("<a><b></a>", "not valid XML"),
        ("<!DOCTYPE a [<!ENTITY b 'c'>]><a>&b;</a>", "declares entities"),
        ("<!DOCTYPE a [<!ENTITY b SYSTEM 'file:///etc/passwd'>]><a>&b;</a>", "declares entities"),
        ("<!DOCTYPE a [<!ENTITY % b SYSTEM 'http://127.0.0.1:9/b'> %b;]><a/>", "declares entities"),
        ("<!DOCTYPE a [<!NOTATION n SYSTEM 'x'><!ENTITY b SYSTEM 'c' NDATA n>]><a/>", "declares entities"),
        ("<a>&quay;</a>", "not valid XML"),
        ("<a>" * 400 + "</a>" * 400, "nested too deeply"),
    ],
)  # fmt: skip
def test_xml_that_is_broken_or_meant_to_harm(text: str, says: str) -> None:
    with pytest.raises(ManifestFault, match=says):
        as_xml(manifest(text))


def test_what_a_doctype_names_is_never_fetched() -> None:
    with socket.create_server(("127.0.0.1", 0)) as server:
        server.settimeout(0.05)
        place = f"http://127.0.0.1:{server.getsockname()[1]}/quay.dtd"
        for text in (
            f"<!DOCTYPE a SYSTEM '{place}'><a>pier</a>",
            f'<?xml version="1.0" encoding="UTF-16"?><a>pier</a><!-- {place} -->',
        ):
            assert as_xml(manifest(text)).text == "pier"
        with pytest.raises(TimeoutError):
            server.accept()


def test_lines_too_long_to_be_written_by_a_person_are_passed_over() -> None:
    text = "ruby '3.1'\n" + "ruby '" + "9" * 5000 + "'\nruby '3.2' # ruby '3.3'\n"
    assert [(match[1], line) for match, line in matches(manifest(text), r"ruby '([^']+)'")] == [("3.1", 1), ("3.2", 3)]
    assert properties(manifest("# a=1\n! b=2\nc = d\\:e\nf:g\n")) == {"c": ("d:e", 3), "f": ("g", 4)}


def test_files_that_are_no_plain_files_are_told(tmp_path: Path) -> None:
    (tmp_path / "large").write_bytes(b" " * (LARGEST_BYTES + 2))
    (tmp_path / "latin").write_bytes("a\nb\ncafé".encode("latin-1"))
    (tmp_path / "loop").symlink_to("loop")
    (tmp_path / "inside").symlink_to("plain")
    (tmp_path / "plain").write_text("\ufefftext", "utf-8")
    os.mkfifo(tmp_path / "pipe")
    expected = {
        "large": "larger than 4 MiB",
        "loop": "cannot be opened",
        "pipe": "not a plain file",
        "none": "cannot be opened",
    }
    for name, says in expected.items():
        with pytest.raises(ManifestFault, match=says):
            open_manifest(tmp_path / name, tmp_path)
    with pytest.raises(ManifestFault, match="not UTF-8") as fault:
        open_manifest(tmp_path / "latin", tmp_path)
    assert fault.value.line == 3
    assert open_manifest(tmp_path / "inside", tmp_path).text == "text"


PIPES = (
    "package.json", "package-lock.json", "npm-shrinkwrap.json", "yarn.lock", "pnpm-lock.yaml", ".nvmrc", "pyproject.toml",
    "requirements.txt", "composer.json", "composer.lock", "pom.xml", "build.gradle", "global.json", "app.csproj", "go.mod",
    "Cargo.toml", "Gemfile", "Gemfile.lock", "CMakeLists.txt", "README.md", "Dockerfile", ".tool-versions", ".git/HEAD",
    ".git/index", "deno.json", "manage.py", "index.php", "Makefile", "mix.exs", "pubspec.yaml", "platformio.ini",
)  # fmt: skip


@pytest.mark.parametrize("command", [["needs"], ["verify"], ["smoke", "--show-plan"]])
def test_pipes_that_nobody_writes_to_are_passed_over(world: World, command: list[str]) -> None:
    """Whatever a checkout names like a manifest: opening it must not wait. The manifest beside it is still read."""
    for name in PIPES:
        (world.checkout / name).parent.mkdir(parents=True, exist_ok=True)
        if name != "package.json":
            os.mkfifo(world.checkout / name)
    scripts = '{"engines": {"node": ">=18"}, "dependencies": {"tern": "1"}, "scripts": {"start": "node x"}}'
    world.write({"package.json": scripts})
    ended = world.dokimon(*command, seconds=20)
    assert "Traceback" not in ended.err and "node" in ended.out, ended


def test_the_walk_keeps_to_what_people_wrote(tmp_path: Path) -> None:
    kept = ["a.json", ".github/workflows/ci.yml", "parts/b/a.json", "parts/a/a.json"]
    skipped = [
        "node_modules/x/a.json", ".hidden/a.json", "env/pyvenv.cfg", "env/a.json", "sub/.git/x", "sub/a.json",
            "target/a.json",
        "parts/vendor/a.json", "parts/b/other.txt",
    ]  # fmt: skip
    for name in [*kept, *skipped]:
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).touch()
    (tmp_path / "linked").symlink_to(tmp_path / "parts")
    (tmp_path / "circle").symlink_to(tmp_path)
    found = [
        str(Path(folder, name).relative_to(tmp_path))
        for folder, names in walk(tmp_path, frozenset({"a.json"}), frozenset({".yml"}))
        for name in names
    ]
    assert found == ["a.json", ".github/workflows/ci.yml", "parts/a/a.json", "parts/b/a.json"]


def test_broken_files_beside_each_other_hide_nothing(world: World) -> None:
    world.write(
        {
            "package.json": "{",
            "pyproject.toml": b"\xff",
            "pom.xml": "<",
            "pubspec.yaml": "[",
            "Cargo.toml": "[",
            "README.md": b"\xff",
            ".github/workflows/ci.yml": "[",
            "go.mod": "go 1.21\n",
        }
    )
    ended = world.dokimon("needs", "--format", "json")
    unknown = {each["tool"] for each in ended.report["requirements"] if "reason" in each}
    assert (ended.status, unknown) == (3, {"node", "python", "java", "dart", "rustc"})
    assert any(each["tool"] == "go" for each in ended.report["requirements"])
    drawn = world.dokimon("needs")
    assert drawn.status == 3 and "not all of them could be read" in drawn.out and "stumble" not in drawn.out
    assert world.dokimon("verify").status in (1, 3)


@given(st.text(max_size=200))
def test_any_text_at_all_is_read_or_refused(text: str) -> None:
    """Every reader, on text that nobody meant for it: a list of requirements or a `ManifestFault`, never another error."""
    from dokimon.core.declarations.ecosystems import ECOSYSTEMS

    for ecosystem in ECOSYSTEMS:
        for name, function in ecosystem.readers.items():
            read = ecosystem.reader(function)
            made = Manifest(location=f"/nowhere/{name.replace('*', 'x')}", name=name, text=text, root=Path("/nowhere"))
            try:
                assert isinstance(read(made), list)
            except ManifestFault as fault:
                assert fault.line >= 1 and fault.reason


@pytest.mark.parametrize(
    "arguments", [["needs"], ["needs", "--format", "json"], ["verify", "--format", "junit"], ["--version"]]
)
def test_an_output_that_cannot_be_written_is_said(world: World, arguments: list[str]) -> None:
    world.write({"package.json": '{"engines": {"node": ">=18"}}'})
    command = [str(DOKIMON), *arguments]
    with Path("/dev/full").open("w") as full:
        ended = subprocess.run(
            command,
            cwd=world.checkout,
            env=world.environment,
            stdout=full,
            stderr=subprocess.PIPE,
            text=True,
            check=False,
        )
    assert ended.returncode == 1
    assert ended.stderr.splitlines()[-1] == "dokimon: standard output cannot be written: No space left on device"
    assert "Traceback" not in ended.stderr
    closed = subprocess.run(
        ["sh", "-c", '"$@" >&-', "sh", *command], cwd=world.checkout, env=world.environment, capture_output=True, text=True,
        check=False,
    )  # fmt: skip
    assert closed.returncode == 1 and "standard output cannot be written: it is closed" in closed.stderr


def test_junit_stays_xml_for_any_character(world: World) -> None:
    odd = "".join(map(chr, (0xFFFE, 0xFFFF, 0x7F, 0x85, 0x1F600, 0x2028))) + "]]><&\"'`|"
    world.write({"package.json": json.dumps({"engines": {"node": odd, odd: ">=1"}}, ensure_ascii=False)})
    for command in ("needs", "verify"):
        assert ElementTree.fromstring(world.dokimon(command, "--format", "junit").out) is not None


@pytest.mark.parametrize("odd", ["`a` | b", "a\\`b|", "*a* _b_ [c](d) <e> &amp; ~f~", "a|b`c``d", "<!-- x"])
def test_markdown_stays_markdown_for_any_text(world: World, odd: str) -> None:
    """Read by another's parser, each cell and each piece of code says what it was to say."""
    name = odd.replace("/", "-")
    world.write(
        {
            f"{name}/package.json": json.dumps({"engines": {"node": ">=1", odd: ">=2"}}),
            "dokimon.toml": f"format = 1\n[[run]]\nname = {json.dumps(odd)}\ncommand = {json.dumps('echo ' + odd)}\n",
        }
    )
    for arguments in (["needs"], ["verify"], ["smoke", "--anyway"]):
        text = world.dokimon(*arguments, "--format", "markdown").out
        tokens = MarkdownIt("commonmark").enable("table").parse(text)
        rows = [0]
        for token in tokens:
            rows += [0] if token.type == "tr_open" else []
            rows[-1] += token.type in ("td_open", "th_open")
        assert len(set(rows[1:])) <= 2, text
        inline = [each for token in tokens if token.type == "inline" for each in token.children or ()]
        kinds = {each.type for each in inline if not (each.type == "html_inline" and "dokimon needs" in each.content)}
        assert kinds <= {"text", "code_inline", "softbreak"}, (kinds, text)
        said = "".join(each.content for each in inline)
        assert arguments != ["needs"] or (name in said and f"{name}/package.json" in said), (said, text)
        assert arguments[0] != "smoke" or f"echo {odd}" in said, (said, text)
