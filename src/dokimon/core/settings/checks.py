"""The `[[smoke]]` tables of `dokimon.toml`: which kind of check each one is, and what is wrong with it."""

from __future__ import annotations

from typing import Any

from dokimon.core.checks.registry import KINDS, kind_given
from dokimon.core.checks.spec import CheckSpec
from dokimon.core.checks.spec_values import value_problems
from dokimon.core.settings.tables import TableReader, keys_of
from dokimon.core.text import nearest


def read_checks(given: object, reader: TableReader) -> list[CheckSpec]:
    """Return what each `[[smoke]]` asks for; problems go to `reader`."""
    if not isinstance(given, list) or not all(isinstance(item, dict) for item in given):
        reader.problem(("smoke",), "write [[smoke]], with two brackets: there may be several")
        return []
    specs = [_check(table, index, reader) for index, table in enumerate(given)]
    return [spec for spec in specs if spec is not None]


def _check(table: dict[str, Any], index: int, reader: TableReader) -> CheckSpec | None:
    kind = kind_given(table)
    if kind is None:
        reader.problem(("smoke", index), _no_kind(table, index, reader))
        return None
    keys = " or ".join(f'"{key}"' for key in kind.keys if key in table)
    spec = reader.table(table, kind.type, ("smoke", index), f"[[smoke]] with {keys}")
    if spec is not None:
        for key, says in (*spec.problems(), *value_problems(spec)):
            reader.problem(("smoke", index, key) if key else ("smoke", index), says)
    return spec


_COMMON = frozenset(CheckSpec.__struct_fields__)


def _no_kind(table: dict[str, Any], index: int, reader: TableReader) -> str:
    """Say which key is missing or misspelt in a table that asks for no kind of check."""
    subjects = [key for kind in KINDS for key in kind.keys]
    own = {key for key in table if key not in _COMMON}
    for kind in KINDS:
        if own and own <= set(keys_of(kind.type)):
            wanted = " or ".join(f'"{key}"' for key in kind.keys)
            return f"a [[smoke]] with {', '.join(sorted(own))} also needs {wanted}"
    for key in sorted(own):
        if like := nearest(key, subjects):
            reader.problem(("smoke", index, key), f'unknown key "{key}" in [[smoke]]; did you mean "{like}"?')
    return f"[[smoke]] checks nothing; give it one of {', '.join(subjects)}"
