"""Version orders, sets and languages."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dokimon.core.versions import VersionFault, admits, compiled
from dokimon.core.versions.orders.dotted import DOTTED
from dokimon.core.versions.orders.semver import SEMVER
from dokimon.core.versions.sets import ALL, NONE, VersionSet, after, before, between, union

TABLE = [line.split("\t") for line in Path(__file__).with_name("npm_answers.tsv").read_text().splitlines() if line]


@pytest.mark.parametrize("constraint, version, expected", TABLE)
def test_npm_answers_as_npm_does(constraint: str, version: str, expected: str) -> None:
    """The table was drawn from npm's own `semver` (tests/differential/npm.py)."""
    assert admits("npm", constraint, version) is (expected == "true")


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
        ("node-version-file", "lts/*", "18.0.0 22.1.0", "21.0.0 19.4.0"),
        ("node-version-file", "v20.11", "20.11.0 v20.11.9", "20.12.0"),
        ("node-version-file", "lts/-1", "22.1.0", "24.0.0"),
        ("node-version-file", "node", "5.0.0", ""),
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
        ("pep440", ">=3.11,abc", 7), ("node-version-file", "lts/harbour", 4), ("node-version-file", "system", 0),
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
        ("npm", ">=18.17 <23", "18.17 up to, not including, 23"),
        ("npm", "^18.17 || >=20", "18.17 up to, not including, 19 or 20 or newer"),
        ("npm", "10.2.4", "exactly 10.2.4"),
        ("npm", "20", "20.x"),
        ("npm", "~1.2", "1.2.x"),
        ("npm", "", "any version"),
        ("npm", ">1.2.3 <=1.4.0", "after 1.2.3 up to 1.4"),
        ("npm", "<0.0.0-0", "older than 0"),
        ("pep440", ">=3.11", "3.11 or newer"),
        ("pep440", ">=3.8,<3.12,!=3.9.*", "3.8.x or 3.10 up to, not including, 3.12"),
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
    ],
)  # fmt: skip
def test_orders_rise(order: object, rising: str) -> None:
    keys = [order.key(version) for version in rising.split()]  # type: ignore[attr-defined]
    assert keys == sorted(keys) and len(set(keys)) == len(keys)


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
SPECIFIERS = st.tuples(st.sampled_from([">=", "<=", "<", ">", "==", "!=", "~="]), st.sampled_from(PEP440_VERSIONS))


@given(st.lists(SPECIFIERS, max_size=3), st.sampled_from(PEP440_VERSIONS))
def test_pep440_sets_agree_with_packaging(specifiers: list[tuple[str, str]], version: str) -> None:
    try:
        made = compiled("pep440", ",".join(operator + v for operator, v in specifiers))
    except VersionFault:  # `>1.1+abc`: ordered comparison knows no local versions
        return
    assert (made.order.key(version) in made.versions) == made.admits(version)
