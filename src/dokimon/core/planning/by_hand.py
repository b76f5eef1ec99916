"""What no command line starts (`by_hand.toml`): what it is, and how a person uses it."""

from __future__ import annotations

import json
import re
import tomllib
from collections.abc import Iterator
from functools import cache
from pathlib import Path
from typing import Any

import msgspec

from dokimon.core.expressions import expression
from dokimon.core.files import text_of
from dokimon.core.reading.json_places import without_comments
from dokimon.core.text import clean
from dokimon.core.words import filled

_LARGEST = 100_000
_MOST_FILES = 20
_MOST_TOLD = 3


class Kind(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """One entry of `by_hand.toml`; its comment says what each key means. What `names_files` is JSON that names its own."""

    is_: str = msgspec.field(name="is")
    files: tuple[str, ...]
    how: str
    pattern: str = ""
    names_files: bool = False


@cache
def kinds() -> tuple[Kind, ...]:
    """Return all that are known, in the order in which they are looked for."""
    read = tomllib.loads(Path(__file__).with_suffix(".toml").read_text("utf-8"))
    return tuple(msgspec.convert(read["kind"], tuple[Kind, ...]))


def by_hand(folder: Path) -> str | None:
    """Say what a folder holds that no command line starts, how it is used, and what is wrong with it; None of others."""
    for kind in kinds():
        path = next(_shown_by(kind, folder), None)
        if path is not None:
            how = filled(kind.how, {"folder": _named(path.parent, folder), "file": path.relative_to(folder).as_posix()})
            missing = _missing_files(path) if kind.names_files else []
            wrong = f"\n{path.name} names what is not there: {', '.join(missing[:_MOST_TOLD])}" if missing else ""
            return f"It is {kind.is_} ({path.relative_to(folder).as_posix()}). How it is used: {how}.{wrong}"
    return None


def _shown_by(kind: Kind, folder: Path) -> Iterator[Path]:
    for name in kind.files:
        for path in sorted(folder.glob(name))[:_MOST_FILES]:
            if path.is_file() and (not kind.pattern or re.search(kind.pattern, text_of(path, _LARGEST))):
                yield path


def _named(place: Path, folder: Path) -> str:
    return "this folder" if place == folder else f"the folder {place.relative_to(folder).as_posix()}"


_A_FILE = expression(r"(?!https?:|[/*])[\w./-]+\.(?:js|mjs|html|css|png|svg|ico|json)")


def _missing_files(path: Path) -> list[str]:
    """Return the files that a manifest of JSON names and that do not lie beside it."""
    try:
        read = json.loads(without_comments(text_of(path, _LARGEST)))
    except (ValueError, RecursionError):
        return ["(it is no JSON)"]
    named = dict.fromkeys(each for each in _texts(read) if _A_FILE.fullmatch(each))
    return [clean(each, 80) for each in named if not (path.parent / each).exists()]


def _texts(value: Any) -> Iterator[str]:
    """Yield all texts of a value, however deep it is nested."""
    waiting = [value]
    while waiting:
        each = waiting.pop()
        if isinstance(each, str):
            yield each
        elif isinstance(each, dict | list):
            waiting += each.values() if isinstance(each, dict) else each
