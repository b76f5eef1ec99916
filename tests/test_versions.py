"""Version orders, sets and languages."""

from __future__ import annotations

import json
import subprocess
import sys
from itertools import pairwise
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from packaging.specifiers import InvalidSpecifier, SpecifierSet

from dokimon.core.declarations.global_json import HOST, read_text
from dokimon.core.versions import LANGUAGES, admits, compiled
from dokimon.core.versions.common import in_common
from dokimon.core.versions.faults import VersionFault
from dokimon.core.versions.languages import runtime_rollforward, sdk_rollforward
from dokimon.core.versions.orders.composer import COMPOSER
from dokimon.core.versions.orders.dart import DART
from dokimon.core.versions.orders.dotted import DOTTED
from dokimon.core.versions.orders.gem import GEM
from dokimon.core.versions.orders.go import GO
from dokimon.core.versions.orders.gradle import GRADLE
from dokimon.core.versions.orders.java import JAVA
from dokimon.core.versions.orders.maven import MAVEN
from dokimon.core.versions.orders.nuget import NUGET
from dokimon.core.versions.orders.semver import SEMVER
from dokimon.core.versions.sets import ALL, NONE, VersionSet, after, before, between, union

ANSWERS = sorted(Path(__file__).with_name("answers").glob("*.tsv"))


@pytest.mark.parametrize("table", ANSWERS, ids=[path.stem for path in ANSWERS])
def test_answers_are_those_of_the_reference(table: Path) -> None:
    """The tables were drawn from npm, Composer, RubyGems, Maven and poetry-core (tests/differential/compare.py)."""
    rows = [line.split("\t") for line in table.read_text("utf-8").splitlines()]
    wrong = [row for row in rows if admits(table.stem, row[0], row[1]) is not (row[2] == "true")]
    assert len(rows) == 80 and not wrong


def _hosts(kind: str) -> list[dict[str, Any]]:
    """What the .NET host itself says (tests/differential/hostfxr.py)."""
    lines = Path(__file__).with_name("answers").joinpath("hosts", f"{kind}.jsonl").read_text("utf-8").splitlines()
    return [json.loads(line) for line in lines]


def test_the_sdk_is_the_one_that_the_host_takes() -> None:
    for row in _hosts("sdks"):
        asked = read_text(row["asked"])
        assert bool(asked.ignored) is row["ignored"], row
        places = {HOST: ("host", row["installed"]), ".dotnet": ("working/.dotnet", row["local"])}
        looked_in = (HOST,) if asked.paths is None or asked.ignored else asked.paths
        known = [places[each] for each in looked_in if each in places]
        there = [(where, sdk_rollforward.taken(asked.wanted or "", installed)) for where, installed in known]
        assert next((f"{where}/sdk/{taken}" for where, taken in there if taken), None) == row["taken"], row


def test_the_framework_is_the_one_that_the_host_takes() -> None:
    for row in _hosts("frameworks"):
        assert runtime_rollforward.taken(row["asked"], row["installed"]) == row["taken"], row
        accepted = [each for each in row["installed"] if admits("runtime-rollforward", row["asked"], each)]
        assert bool(accepted) is (row["taken"] is not None), row


@pytest.mark.parametrize(
    "language, constraint, accepted, refused",
    [
        ("plain", ">=18.17, <23", "18.17 18.17.1 22.9.9", "18.16.9 23 23.0.0-rc1 24"),
        ("plain", "18", "18 18.0.1 18.99", "17.9 19 19.0-rc1 18-rc1"),
        ("plain", "<=18 or >20", "17 18.9 21.0", "19.0 20.4"),
        ("plain", "!=18", "17.9 19", "18 18.4"),
        ("plain", "=2.39", "2.39.5 2.39.5-1", "2.40"),
        ("plain", "3.x", "3.0 3.14", "4"),
        ("plain", "any", "0.1 99", ""),
        ("plain", ">=12.2", "12.2.0-14+deb12u1 12.3", "12.1.9 12.2-rc1"),
        ("pep440", ">=3.11,<3.13", "3.11.0 3.12.9 3.12.1+", "3.10.9 3.13.0 3.13.0rc1"),
        ("pep440", "==3.11.*", "3.11.7 3.11.0rc1", "3.12.0"),
        ("pep440", "~=3.11", "3.11 3.14.2", "4.0 3.10"),
        ("pep440", "", "2.7.18", ""),
        ("node-version-file", "lts/iron", "20.11.1", "18.20.0 21.0.0"),
        ("node-version-file", "lts/*", "26.0.0 26.10.0", "24.0.0 25.4.0"),
        ("node-version-file", "v20.11", "20.11.0 v20.11.9", "20.12.0"),
        ("node-version-file", "lts/-1", "24.1.0", "22.0.0 26.0.0"),
        ("node-version-file", "node", "5.0.0", ""),
        ("poetry", "^3.11", "3.11.0 3.12.9 3.99", "3.10 4.0 4.0rc1"),
        ("poetry", "~3.11 || 2.7.*", "3.11.9 2.7.18", "3.12 2.8"),
        ("composer", "^8.1 || ~7.4.3", "8.1.0 8.3.2 7.4.9 8.1.0-dev", "9.0 7.5.0 9.0.0-dev"),
        ("composer", ">=7.4@beta, <8", "7.4.0-beta2 7.4", "7.4.0-alpha1 8.0.0-beta1"),
        ("maven", "[1.8,9),[11,)", "1.8.0 11 17", "9 10 1.8-rc1"),
        ("maven", "3.6", "1 9", ""),
        ("gradle", "[1.0,2.0[", "1.0 1.9", "2.0 2.0-rc-1 0.9"),
        ("gradle", "1.+", "1.0 1.99-beta 1", "2.0 2-rc 0.9"),
        ("gradle", "8.5", "8.5", "8.5.1 8.4"),
        ("gradle", "latest.release", "1 99", ""),
        ("gem", "~> 3.1", "3.1.0 3.9 3.2.0.rc1", "4.0 4.0.0.pre 3.0.9"),
        ("gem", ">= 2.7, < 4", "2.7.8 3.3", "2.6 4.0"),
        ("cargo", "1.70", "1.70.0 1.95.0", "1.69.9 2.0.0 1.71.0-beta.1"),
        ("cargo", "~0.3.2, <0.3.9", "0.3.2 0.3.8", "0.3.9 0.4.0"),
        ("cargo", "=1.2.*", "1.2.0 1.2.9", "1.3.0"),
        ("cargo", ">1.2, <=1.4", "1.3.0 1.4.9", "1.2.9 1.5.0"),
        ("cargo", "^0.0.3-beta.1", "0.0.3-beta.2 0.0.3", "0.0.4 0.0.3-alpha"),
        ("nuget", "8.0", "8.0.0 9.1 8.0.1-beta", "7.9 8.0.0-rc1"),
        ("nuget", "(1.0,2.0]", "1.0.1 2.0.0 2.0.0-RC1", "1.0 2.0.1"),
        ("nuget", "1.*", "1.0 1.9.9", "2.0 0.9"),
        ("nuget", "[1.2.3.4]", "1.2.3.4", "1.2.3 1.2.3.5"),
        ("sdk-rollforward", "8.0.302 latestFeature", "8.0.302 8.0.410", "8.0.301 8.1.100 9.0.100"),
        ("sdk-rollforward", "8.0.302", "8.0.302 8.0.399", "8.0.400 8.0.301"),
        ("sdk-rollforward", "8.0.302 rollForward=major allowPrerelease=false", "8.0.302 10.0.100",
            "9.0.100-rc.1 8.0.300"),
        ("sdk-rollforward", "8.0.302 disable", "8.0.302", "8.0.303"),
        ("sdk-rollforward", "8.0.302 minor", "8.1.100 8.9.900", "9.0.100"),
        ("go", "1.21", "1.21 1.21rc1 go1.21.0 1.22.3", "1.20.14"),
        ("go", "1.21.0", "1.21.0 1.22rc1", "1.21rc2 1.21"),
        ("go", "go1.20", "1.20 1.20.0 1.20.1", "1.20rc1 1.19.13"),
        ("cmake", "3.16...3.28", "3.16 3.16.0 3.30 4.1", "3.15.7 3.16-rc1"),
        ("cmake", "1.2...<2.0", "1.2 1.9", "2.0 1.1"),
        ("swift", "5.9", "5.9 5.9.2 6.0", "5.8.1"),
        ("elixir", "~> 1.14", "1.14.0 1.18.2 1.15.0-dev", "1.13.4 2.0.0 2.0.0-dev"),
        ("elixir", ">= 1.0.0 and < 2.0.0 or == 3.0.0", "1.5.0 3.0.0 2.0.0-rc.1", "2.0.0 0.9.0"),
        ("dart", "^0.1.2", "0.1.2 0.1.9", "0.2.0 0.2.0-dev 0.1.1"),
        ("dart", ">=2.12.0 <4.0.0", "2.12.0 3.9.9", "4.0.0 4.0.0-1.0.dev 2.11.0"),
        ("dart", ">=2.0.0-dev <2.0.0", "2.0.0-dev 2.0.0-rc", "2.0.0"),
        ("dart", "any", "0.0.1", ""),
    ],
)  # fmt: skip
def test_languages(language: str, constraint: str, accepted: str, refused: str) -> None:
    made = compiled(language, constraint)
    assert [v for v in accepted.split() if not made.admits(v)] == []
    assert [v for v in refused.split() if made.admits(v)] == []


@pytest.mark.parametrize(
    "language, constraint, position",
    [
        ("npm", ">=18 foo", 5), ("npm", "^^1", 0), ("npm", ">=18 || newest", 8), ("npm", "1.02.3", 0),
        ("plain", ">=18,", 5), ("plain", "newest", 0), ("plain", ">=18, <", 6), ("plain", "18 or ", 6),
        ("poetry", "^3.11, new", 7), ("composer", "^8.1 || new", 8), ("maven", "[1.0,2.0", 0),
            ("maven", "[1,2],[1.5,3]", 6),
        ("gradle", "[1.0", 0), ("gem", ">= 1.0, new", 8), ("cargo", "1.0, >=new", 5), ("nuget", "[1.0", 0),
            ("nuget", "new", 0),
        ("sdk-rollforward", "8.0.302 newest", 8), ("sdk-rollforward", "8.0", 0), ("go", "new", 0),
            ("cmake", "3.16..3.2", 0),
        ("swift", "5.x", 0), ("elixir", ">= 1.0.0 and 2", 13), ("elixir", ">= 1.0", 0), ("dart", "^1.2.3 new", 7),
        ("cmake", "3.16...3.2", 7), ("maven", "", 0), ("cargo", "", 0), ("pep440", ">=3.11,abc", 7),
            ("node-version-file", "lts/harbour", 4), ("node-version-file", "system", 0),
    ],
)  # fmt: skip
def test_faults_say_where(language: str, constraint: str, position: int) -> None:
    with pytest.raises(VersionFault) as fault:
        compiled(language, constraint)
    assert (fault.value.text, fault.value.position) == (constraint, position)


@pytest.mark.parametrize("language, version", [("npm", "20"), ("npm", "vtwo"), ("pep440", "new"), ("plain", "new")])
def test_versions_that_are_none(language: str, version: str) -> None:
    with pytest.raises(VersionFault):
        admits(language, "", version) if language != "plain" else admits(language, "any", version)


def test_an_unknown_language_is_named() -> None:
    with pytest.raises(LookupError, match="no constraint language 'klingon'"):
        admits("klingon", "1", "1")


@pytest.mark.parametrize(
    "language, constraint, words",
    [
        ("npm", ">=18.17 <23", "18.17 or newer, below 23"),
        ("npm", "^18.17 || >=20", "18.17 or newer (except 19.x)"),
        ("npm", "10.2.4", "exactly 10.2.4"),
        ("npm", "20", "20.x"),
        ("npm", "~1.2", "1.2.x"),
        ("npm", "", "any version"),
        ("gem", ">= 0", "any version"),
        ("npm", ">1.2.3 <=1.4.0", "above 1.2.3, at most 1.4.0"),
        ("npm", "<0.0.0-0", "older than 0"),
        ("pep440", ">=3.11", "3.11 or newer"),
        ("pep440", ">=3.8,<3.12,!=3.9.*", "3.8 or newer, below 3.12 (except 3.9.x)"),
        ("pep440", "<3,>4", "no version"),
        ("plain", "3.8", "3.8.x"),
        ("plain", "<=18", "older than 19"),
    ],
)  # fmt: skip
def test_sets_in_words(language: str, constraint: str, words: str) -> None:
    assert compiled(language, constraint).in_words == words


@pytest.mark.parametrize(
    "order, rising",
    [
        (SEMVER, "1.0.0-alpha 1.0.0-alpha.1 1.0.0-alpha.beta 1.0.0-beta.2 1.0.0-beta.11 1.0.0-rc.1 1.0.0 1.0.1"),
        (DOTTED, "3.13.0a1 3.13.0rc1 3.13.0 3.13.0-14+deb12u1 3.13.1"),
        (DOTTED, "21-ea 21 21.0.1"),
        (DOTTED, "1.1.1 1.1.1a 1.1.1w 1.1.2"),
        (JAVA, "1.7.0_80 1.8.0_302 8.0.392 9 11.0.2 17.0.9+9 21-ea 21 21.0.1"),
        (GO, "1.20rc1 1.20 1.20.1 1.21 1.21rc1 1.21.0 1.22"),
        (NUGET, "1.0.0-alpha 1.0.0-BETA 1.0.0 1.0.0.1 1.0.1"),
        (GEM, "1.0.a 1.0.b1 1.0.rc 1.0 1.0.1 1.1"),
        (MAVEN, "1-alpha-1 1-beta 1-m3 1-rc 1-SNAPSHOT 1 1-sp 1-x 1-1 1.0.1 1.1"),
        (COMPOSER, "1.0-dev 1.0-alpha1 1.0beta2 1.0-RC1 1.0 1.0-p1 1.0.0.1 1.1"),
        (GRADLE, "1.0-dev 1.0-alpha 1.0-rc-1 1.0-snapshot 1.0-final 1.0-ga 1.0-release 1.0-sp 1.0 1.0.1 1.1"),
        (DART, "1.0.0-dev 1.0.0 1.0.0+1 1.0.1"),
    ],
)  # fmt: skip
def test_orders_rise(order: Any, rising: str) -> None:
    keys = [order.key(version) for version in rising.split()]
    assert all(lower < higher for lower, higher in pairwise(keys))


def test_java_versions_of_both_schemes_are_one_order() -> None:
    assert JAVA.key("1.8.0_392") == JAVA.key("8.0.392") and JAVA.key("1.8") == JAVA.key("8")
    assert JAVA.key("17.0.9+9") == JAVA.key("17.0.9") and JAVA.key("1.8.0_292-b10") == JAVA.key("8.0.292")
    assert compiled("plain", ">=1.8, <17", JAVA).admits("11.0.2") and not compiled("plain", "17", JAVA).admits(
        "1.8.0_17"
    )


def test_dotted_leaves_out_what_adds_nothing() -> None:
    assert DOTTED.key("v1.2.0") == DOTTED.key("1.2")
    assert DOTTED.key("2.39.5 (Apple Git-154)") == DOTTED.key("2.39.5")


def _set(ends: list[tuple[int, int, bool, bool]]) -> VersionSet:
    made = NONE
    for low, high, low_in, high_in in ends:
        bottom = before(low, str(low)) if low_in else after(low, str(low))
        top = after(high, str(high)) if high_in else before(high, str(high))
        made |= between(bottom, top)
    return made


SETS = st.lists(st.tuples(st.integers(0, 9), st.integers(0, 9), st.booleans(), st.booleans()), max_size=4).map(_set)


@given(SETS, SETS, SETS)
def test_the_algebra_keeps_its_laws(a: VersionSet, b: VersionSet, c: VersionSet) -> None:
    assert a & b == b & a and a | b == b | a
    assert (a & b) & c == a & (b & c) and a & (b | c) == (a & b) | (a & c)
    assert ~~a == a and ~(a | b) == ~a & ~b
    assert a | ~a == ALL and a & ~a == NONE and (a <= b) == (a | b == b)
    assert union(a, b, c) == a | b | c


@given(SETS, SETS, st.integers(-1, 10))
def test_operations_follow_membership(a: VersionSet, b: VersionSet, version: int) -> None:
    assert (version in a & b) == (version in a and version in b)
    assert (version in a | b) == (version in a or version in b)
    assert (version in ~a) == (version not in a)
    assert (a.side_of(version) == 0) or (version not in a)


@given(SETS)
def test_sets_are_canonical(a: VersionSet) -> None:
    for left, right in zip(a.intervals, a.intervals[1:], strict=False):
        assert left.high < right.low
    assert all(interval.low < interval.high for interval in a.intervals)


COMPARISONS = st.sampled_from(["", ">=", "<=", ">", "<"])
RELEASES = st.tuples(st.integers(0, 3), st.integers(0, 3), st.integers(0, 3)).map(lambda n: ".".join(map(str, n)))


@given(st.sampled_from(["npm", "plain", "pep440", "composer", "gem", "maven", "dart"]), COMPARISONS, RELEASES, RELEASES)
def test_sets_carried_over_hold_the_same_releases(language: str, operator: str, end: str, version: str) -> None:
    written = {"pep440": f"{operator or '=='}{end}", "maven": f"[{end},)"}.get(language, operator + end)
    made = compiled(language, written)
    carried = in_common(made)
    assert carried is not None
    assert (DOTTED.key(version) in carried) == made.admits(version)


PEP440_VERSIONS = [
    "1.0",
    "1.1",
    "1.1.dev1",
    "1.1a1",
    "1.1rc2",
    "1.1.post1",
    "1.1+abc",
    "1.1+5",
    "1.2",
    "2.0.dev3",
    "2.0rc1",
    "0.9",
    "1.1.1",
    "1!1.0",
]
SPECIFIERS = st.tuples(
    st.sampled_from([">=", "<=", "<", ">", "==", "!=", "~=", "===", "=", ""]),
    st.sampled_from(PEP440_VERSIONS),
    st.sampled_from(["", "", ".*"]),
)


@given(st.lists(SPECIFIERS, max_size=3), st.sampled_from(PEP440_VERSIONS))
def test_pep440_specifiers_decide_as_packaging_does(specifiers: list[tuple[str, str, str]], version: str) -> None:
    text = ", ".join("".join(parts) for parts in specifiers)
    try:
        theirs = SpecifierSet(text)
    except InvalidSpecifier:
        with pytest.raises(VersionFault):
            compiled("pep440", text)
        return
    assert compiled("pep440", text).admits(version) == theirs.contains(version, prereleases=True)


LONG = [
    "1",
    " ",
    "\t",
    "1.",
    "1-",
    "||",
    " ||",
    ",",
    "(",
    "~",
    "*",
    "a",
    ".",
    "alpha1.",
    "1.0-beta",
    "@dev",
    "!=1,",
    "²",
]
"""Pieces that are repeated until a constraint is as long as it may be: what backtracks in a pattern shows in one of them."""

READS_THEM = """
import sys
from dokimon.core.versions import LANGUAGES, LONGEST, VersionFault, compiled

for language in LANGUAGES:
    for piece in sys.argv[1:]:
        for head in ("", "1.0-alpha", ">=", "1 "):
            for tail in ("", "!", " z"):
                try:
                    compiled(language, (head + piece * LONGEST)[: LONGEST - len(tail)] + tail)
                except VersionFault:
                    pass
"""


def test_no_language_takes_for_ever() -> None:
    """In a process of its own, which a pattern that backtracks without end would keep busy until the limit."""
    subprocess.run([sys.executable, "-c", READS_THEM, *LONG], check=True, timeout=100)


@pytest.mark.parametrize("language", sorted(LANGUAGES))
def test_a_constraint_is_bounded(language: str) -> None:
    with pytest.raises(VersionFault, match="too long for a constraint"):
        compiled(language, ">=1 " * 1000)
