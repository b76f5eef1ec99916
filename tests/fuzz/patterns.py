"""`python tests/fuzz/patterns.py`: try to make each regular expression of the package take longer than its text is long.

For each pattern texts that it matches are made up, cut at some place and pumped up with a piece of themselves or with white
space. A pattern that takes more than a second for 20,000 characters is named with the text that shows it; whether such a
text can reach it is for a person to say.
"""

from __future__ import annotations

import ast
import contextlib
import multiprocessing
import random
import re
import sys
import time
import tomllib
import warnings
from collections.abc import Iterator
from pathlib import Path

warnings.simplefilter("ignore")
SRC = Path(__file__).parents[2] / "src/dokimon"
LENGTH = 20_000
SECONDS = 1.0
CALLS = {"expression", "search", "match", "fullmatch", "findall", "finditer", "compile", "sub", "split", "matches"}


def patterns() -> Iterator[tuple[str, str]]:
    """Yield each pattern of the package and where it stands: in calls of `re`, in tables of TOML."""
    for path in sorted(SRC.rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            name = getattr(getattr(node, "func", None), "attr", None) or getattr(
                getattr(node, "func", None), "id", None
            )
            if isinstance(node, ast.Call) and name in CALLS:
                for given in node.args[:2]:
                    if isinstance(given, ast.Constant) and isinstance(given.value, str) and len(given.value) > 4:
                        yield given.value, f"{path.relative_to(SRC)}:{node.lineno}"
    for path in sorted(SRC.rglob("*.toml")):
        yield from ((text, str(path.relative_to(SRC))) for text in _strings(tomllib.loads(path.read_text("utf-8"))))


def _strings(value: object) -> Iterator[str]:
    if isinstance(value, str) and re.search(r"[*+?]", value) and re.search(r"[\\\[(]", value):
        yield value
    elif isinstance(value, dict):
        for each in value.values():
            yield from _strings(each)
    elif isinstance(value, list):
        for each in value:
            yield from _strings(each)


def texts(pattern: str, chance: random.Random) -> Iterator[str]:
    """Yield texts that might make the pattern go back over them again and again."""
    from hypothesis import HealthCheck, Phase, given, settings
    from hypothesis.strategies import from_regex

    samples: list[str] = [" ", "a", "1", "."]

    @settings(
        max_examples=25, database=None, deadline=None, phases=[Phase.generate], suppress_health_check=list(HealthCheck)
    )
    @given(from_regex(re.compile(pattern), alphabet="aA1 \t-._/:=\"'()[]{}<>~^,;#@$*\n"))
    def collect(text: str) -> None:
        samples.append(text[:200])

    with contextlib.suppress(Exception):  # what no text can be made up for is tried with plain ones
        collect()
    for sample in samples:
        for _ in range(4):
            at = chance.randrange(len(sample) + 1)
            unit = chance.choice(
                [sample[at : at + 1], sample[at : at + 2], sample[max(0, at - 3) : at], " ", "\t", "a", "0", "\n"]
            )
            if unit:
                yield sample[:at] + unit * (LENGTH // len(unit)) + chance.choice(["\x01", "", "!"])


def slowest(work: tuple[str, str]) -> tuple[str, str, float, str] | None:
    """Return the pattern, its place, and the text that took longest, where that was too long."""
    pattern, place = work
    try:
        compiled = re.compile(pattern, re.MULTILINE)
    except re.error:
        return None
    chance = random.Random(pattern)
    for text in texts(pattern, chance):
        short = text[:2000] + text[-10:]
        spent = [0.0, 0.0]
        for number, each in enumerate((short, text)):
            begun = time.perf_counter()
            compiled.search(each)
            spent[number] = time.perf_counter() - begun
            if spent[number] > SECONDS / (100 if number == 0 else 1):
                return pattern, place, spent[number], f"{each[:40]!r} … {each[-10:]!r} ({len(each)})"
    return None


def main() -> None:
    """Try each pattern in a process of its own kind, and list those that are slow."""
    listed = list(dict(patterns()).items())
    found = 0
    with multiprocessing.Pool(2, maxtasksperchild=50) as pool:
        for result in pool.imap_unordered(slowest, listed, chunksize=8):
            if result:
                found += 1
                print(f"{result[1]}: {result[2]:.2f} s\n    {result[0][:160]}\n    {result[3]}", flush=True)
    print(f"{len(listed)} patterns, {found} slow")
    sys.exit(1 if found else 0)


if __name__ == "__main__":
    main()
