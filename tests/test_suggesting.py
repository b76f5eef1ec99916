"""What a declaration would be by what was proven, and version sets written in each language."""

from __future__ import annotations

import threading
from pathlib import Path

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import World
from dokimon.core.declarations.requirement import requirement
from dokimon.core.machine.survey import Installation
from dokimon.core.processes.ports import Ports
from dokimon.core.proving.side_by_side import side_by_side
from dokimon.core.proving.suggesting import proven_by, suggestion, undeclared
from dokimon.core.proving.versions_here import copies_to_try
from dokimon.core.report.model import FORMAT, Across, Project, Report, Tried
from dokimon.core.source import Source
from dokimon.core.versions import compiled
from dokimon.core.versions.common import in_common
from dokimon.core.versions.orders.dotted import DOTTED
from dokimon.core.versions.sets import VersionSet, before, between, union
from dokimon.core.versions.writing import written


def tried(*versions: str) -> list[Tried]:
    """Return what was tried: a version that failed has `!` before it, one that stayed open `?`."""
    verdicts = {"!": "failed", "?": "unsure"}
    return [
        Tried(version=each.lstrip("!?"), path="", declared=True, verdict=verdicts.get(each[0], "passed"))  # type: ignore[arg-type]
        for each in versions
    ]


@pytest.mark.parametrize(
    "language, line, wanted, versions, after",
    [
        ("npm", '"node": ">=18"', ">=18", ("!18.20.4", "20.18.0", "22.11.0"), ">=20.18.0"),
        ("npm", '"node": "^18 || ^20 || ^22"', "^18 || ^20 || ^22", ("!18.20.4", "20.18.0", "22.11.0"),
            ">=20.18.0 <21.0.0 || >=22.0.0 <23.0.0"),
        ("npm", '"node": ">=18"', ">=18", ("18.20.4", "!20.18.0", "22.11.0", "!24.1.0"), ">=22.11.0 <24"),
        ("npm", '"node": ">=20 <21"', ">=20 <21", ("!18.1.0", "20.18.0", "22.11.0"), ">=20.0.0 <23"),
        ("npm", '"node": ">=20"', ">=20", ("18.20.4", "20.18.0"), ">=18.20.4"),
        ("npm", '"node": ">=18"', ">=18", ("18.20.4", "20.18.0"), None),
        ("npm", '"node": ">=18"', ">=18", ("?18.20.4", "20.18.0"), None),  # what stayed open proves nothing
        ("npm", '"node": ">=18"', ">=18", ("24.0.0", "!24.1.0"), ">=18.0.0 <24.1.0"),
        ("pep440", 'requires-python = ">=3.8"', ">=3.8", ("!3.9.1", "3.10.2", "3.12.0", "!3.13.0"), ">=3.10.2,<3.13"),
        ("pep440", 'requires-python = ">=3.8,<3.12"', ">=3.8,<3.12", ("3.11.1", "3.12.0", "3.13.4"), ">=3.8,<3.14"),
        ("go", "go 1.21", "1.21", ("!1.21.5", "1.22.0"), "1.22.0"),
        ("plain", 'rust-version = "1.70"', ">=1.70", ("!1.71.0", "1.80.0"), "1.80.0"),
        ("plain", 'version = ">=18, <23"', ">=18, <23", ("!18.1.0", "20.2.0"), ">=20.2.0, <23"),
        ("composer", '"php": "^8.1"', "^8.1", ("!8.1.2", "8.2.0"), ">=8.2.0 <9"),
        ("gem", 'ruby ">= 3.0"', ">= 3.0", ("!3.0.1", "3.2.0"), ">= 3.2.0"),
        ("elixir", 'elixir: "~> 1.14"', "~> 1.14", ("!1.14.1", "1.16.0"), ">= 1.16.0 and < 2.0.0"),
        ("node-version-file", "18", "18", ("!18.20.4", "22.11.0"), "22"),
        ("node-version-file", "v18.20.4", "v18.20.4", ("!18.20.4", "22.11.0"), "v22.11.0"),
        ("node-version-file", "22", "22", ("!18.20.4", "22.11.0"), None),
        ("plain", 'java = "17"', "17", ("!17.0.2", "21.0.1"), "21"),
    ],
)  # fmt: skip
def test_a_declaration_is_moved_to_what_was_proven(
    language: str, line: str, wanted: str, versions: tuple[str, ...], after: str | None
) -> None:
    need = requirement("node", wanted, language, Source("quay.toml", 3, line))
    proven = proven_by(tried(*versions))
    assert proven is not None
    found = suggestion(need, proven, ["", "", line])
    assert (found and found.after) == after
    if found and found.before and found.after:
        assert found.before in line


@pytest.mark.parametrize(
    "line, wanted, versions",
    [
        ('ruby ">= 3.0", "!= 3.1"', ">= 3.0, != 3.1", ("!3.0.1", "3.2.0")),  # two texts in the file
        ("node: >=18 # >=18", ">=18", ("!18.1.0", "20.0.0")),  # which of them is meant is not known
        ("elsewhere", ">=18", ("!18.1.0", "20.0.0")),
    ],
)
def test_what_cannot_be_changed_in_one_place_is_only_said(line: str, wanted: str, versions: tuple[str, ...]) -> None:
    language = "gem" if "ruby" in line else "npm"
    proven = proven_by(tried(*versions))
    assert proven is not None
    found = suggestion(requirement("node", wanted, language, Source("quay.toml", 3, line)), proven, ["", "", line])
    assert found and found.after is None and "by what was proven it is" in found.says


def test_what_is_not_released_yet_is_never_suggested() -> None:
    proven = proven_by(tried("!1.95.0", "1.97.0-nightly"))
    assert proven is not None
    line = 'rust-version = "1.70"'
    found = suggestion(requirement("rustc", ">=1.70", "plain", Source("Cargo.toml", 1, line)), proven, [line])
    assert found and found.after is None and "only 1.97.0-nightly passes, which is not released yet" in found.says


def test_of_what_nobody_declares_a_need_is_suggested() -> None:
    assert proven_by(tried("!18.0.0")) is None
    some = proven_by(tried("!18.20.4", "20.18.0", "!24.1.0"))
    assert some and (undeclared("node", some).after or "").endswith('version = ">=20.18.0, <24"\n')
    every = proven_by(tried("18.20.4", "20.18.0"))
    assert every and undeclared("node", every).after is None


_NUMBERS = st.tuples(st.integers(0, 30), st.integers(0, 9), st.integers(0, 9)).map(
    lambda each: "{}.{}.{}".format(*each)
)


@given(st.lists(st.tuples(_NUMBERS, _NUMBERS), min_size=1, max_size=3), _NUMBERS)
def test_what_is_written_is_what_was_meant(bounds: list[tuple[str, str]], version: str) -> None:
    cuts = [(before(DOTTED.key(low), low), before(DOTTED.key(high), high)) for low, high in bounds]
    meant: VersionSet = union(*(between(low, high) for low, high in cuts if low < high))
    for language in (
        "npm",
        "composer",
        "pep440",
        "poetry",
        "plain",
        "cargo",
        "dart",
        "elixir",
        "gem",
        "maven",
        "nuget",
    ):
        text = written(language, meant)
        if text is not None:
            assert compiled(language, text).admits(version) == (DOTTED.key(version) in meant), (language, text)


@pytest.mark.parametrize(
    "wanted, tried_with",
    [(">=18 <21", "16 18 20 22"), (">=16 <17 || >=22", "14 16 18 20 22"), (">=30", "14 16 18 20 22"), (">=22", "20 22"),
     (None, "14 16 18 20 22")],
)  # fmt: skip
def test_what_is_declared_is_tried_and_the_nearest_beyond_each_end(
    tmp_path: Path, wanted: str | None, tried_with: str
) -> None:
    (tmp_path / "node").write_text("")
    copies = [
        Installation(tool="node", path=str(tmp_path / "node"), reached=number == 20, version=f"{number}.1.0")
        for number in (22, 14, 20, 16, 18, 20)
    ]
    copies.append(Installation(tool="node", path=str(tmp_path / "gone"), reached=False, version="19.1.0"))
    accepted = in_common(compiled("npm", wanted)) if wanted else None
    found = copies_to_try(copies, accepted)
    assert [each.version for each in found] == [f"{number}.1.0" for number in tried_with.split()]


@pytest.mark.parametrize(
    "manifest, says, patched",
    [
        ('{"engines": {"node": ">=18"}}', "by what was proven it is 20.1 or newer", True),
        ('{"engines": {"node": ">=18"}, "x": "\u202eyrref"}', "by what was proven it is 20.1 or newer", False),
        ('{"engines": {"node": ">=18"}, "x": "' + "y" * 600 + '"}', "by what was proven it is 20.1 or newer", False),
        ('{"engines": {"node": ">=18"}, "x": "\x1b]0;quay\x07"}', "cannot be read (package.json:1)", False),
        ('{"engines": {"node": ">=18"}} ]', "cannot be read (package.json:1)", False),
    ],
)
def test_a_patch_shows_no_line_that_a_terminal_would_act_on(
    world: World, manifest: str, says: str, patched: bool
) -> None:
    world.write({"package.json": manifest})
    across = Across(tool="node", tried=tuple(tried("!18.1.0", "20.1.0")), says=("x",))
    report = Report(
        format=FORMAT, minor=0, command="smoke", verdict="failed", project=Project(root="", name="x"), requirements=(),
        across=across,
    )  # fmt: skip
    (world.home / "across.json").write_bytes(msgspec.json.encode(report))
    ended = world.dokimon("needs", "--suggest", "--by", str(world.home / "across.json"))
    assert says in " ".join(ended.out.split()) and ("+++ b/package.json" in ended.out) == patched
    assert all(line.isprintable() for line in ended.out.splitlines())


# -- side by side


def test_pieces_of_work_are_made_in_order_and_not_more_at_once_than_wished() -> None:
    lock, under_way, most = threading.Lock(), set[int](), 0

    def make(work: int) -> int:
        nonlocal most
        with lock:
            under_way.add(work)
            most = max(most, len(under_way))
        halt.wait(0.01)
        with lock:
            under_way.remove(work)
        return work * 2

    halt = threading.Event()
    assert side_by_side(range(9), make, 3, halt) == [2 * each for each in range(9)] and most <= 3
    assert side_by_side([1], make, 3, halt) == [2]
    halt.set()
    assert side_by_side(range(9), make, 3, halt) == side_by_side(range(9), make, 1, halt) == []


def test_without_room_in_memory_they_are_made_one_after_the_other(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("dokimon.core.proving.side_by_side.ROOM", 1 << 60)
    monkeypatch.setattr("dokimon.core.proving.side_by_side._LOOK_EVERY", 0.01)
    together = threading.Barrier(2)

    def make(work: int) -> bool:
        try:
            together.wait(0.05)
        except threading.BrokenBarrierError:
            return False
        return True

    assert not any(side_by_side(range(3), make, 3, threading.Event()))


@pytest.mark.parametrize(
    "mine, others, waits",
    [([3000], [3000], True), ([3000], [4000], False), ([None], [3000], True), ([3000], [None], True), ([], [None], False),
     ([4000, 3000], [3000, 5000], True), ([], [], False)],
)  # fmt: skip
def test_who_picks_the_same_port_waits_for_his_turn(
    mine: list[int | None], others: list[int | None], waits: bool
) -> None:
    ports, halt, entered, told = Ports(), threading.Event(), threading.Event(), threading.Event()

    def other() -> None:
        with ports.turn(others, halt, told.set):
            entered.set()

    thread = threading.Thread(target=other)
    with ports.turn(mine, halt, pytest.fail):
        thread.start()
        assert told.wait(5) if waits else entered.wait(5)
        assert entered.wait(0.1 if waits else 5) != waits
    thread.join(5)
    assert entered.is_set()


def test_no_port_is_given_to_two() -> None:
    ports = Ports()
    given = [ports.free() for _ in range(30)]
    assert len(set(given)) == 30 and not ports.claim(given[0])
    ports.give_back(given[0])
    assert ports.claim(given[0]) and all(ports.free(after) != given[0] for after in (given[0] - 1, None))
