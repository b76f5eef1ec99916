"""The `[[smoke]]` tables of `dokimon.toml`: which kind of check each one is, and what is wrong with it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from dokimon.core.checks import KINDS, Kind, kind_given
from dokimon.core.checks.measuring import bounds, number
from dokimon.core.checks.patterns import PatternFault, check_pattern
from dokimon.core.checks.wanted import Wanted
from dokimon.core.measures import any_size, seconds

if TYPE_CHECKING:
    from dokimon.core.settings import Reading

_ONLY_HTTP = {
    "status", "title", "shows", "hides", "elements", "assets", "headers", "body", "json", "form", "holds", "take",
}  # fmt: skip


def read_checks(given: object, reading: Reading) -> list[Wanted]:
    """Return what each `[[smoke]]` wants; faults go to `reading`."""
    if not isinstance(given, list) or not all(isinstance(item, dict) for item in given):
        reading.fault(("smoke",), "write [[smoke]], with two brackets: there may be several")
        return []
    made = []
    for index, table in enumerate(given):
        wanted = _check(table, index, reading)
        if wanted is not None:
            made.append(wanted)
    return made


def _check(table: dict[str, Any], index: int, reading: Reading) -> Wanted | None:
    kind = kind_given(table)
    if kind is None:
        reading.fault(("smoke", index), _no_kind(table, index, reading))
        return None
    keys = " or ".join(f'"{key}"' for key in kind.keys if key in table)
    wanted = reading.table(table, kind.type, ("smoke", index), f"[[smoke]] with {keys}")
    if wanted is not None:
        _check_values(wanted, table, kind, index, reading)
    return wanted


def _no_kind(table: dict[str, Any], index: int, reading: Reading) -> str:
    from dokimon.core.text import nearest

    subjects = [key for kind in KINDS for key in kind.keys]
    if _ONLY_HTTP & table.keys():
        return 'a [[smoke]] with status, title, shows or assets also needs "get"'
    for key in table:
        if key not in ("of", "name", "needed", "retries", "pause") and (like := nearest(key, subjects)):
            reading.fault(("smoke", index, key), f'unknown key "{key}" in [[smoke]]; did you mean "{like}"?')
    return f"[[smoke]] checks nothing; give it one of {', '.join(subjects)}"


def _check_values(wanted: Wanted, table: dict[str, Any], kind: Kind, index: int, reading: Reading) -> None:
    """Tell what the types alone do not: durations, patterns, bounds, paths, versions."""
    at = ("smoke", index)
    for keys, value in _leaves(table, ()):
        fault = _value_fault(keys, value, kind)
        if fault:
            reading.fault((*at, keys[0]), fault)
    if kind.name == "http":
        from dokimon.core.checks.http import Http, method_and_path, status_is

        assert isinstance(wanted, Http)
        for key, try_it in (
            ("request", lambda: method_and_path(wanted)),
            ("status", lambda: status_is(200, wanted.status) if wanted.status is not None else None),
        ):
            try:
                try_it()
            except ValueError as wrong:
                reading.fault((*at, key), str(wrong))
    if kind.name == "fact":
        ways = [key for key in ("printed", "get", "file") if key in table]
        if len(ways) != 1:
            reading.fault(at, 'a "fact" stands in one of "printed", "get" and "file"')
    if kind.name == "artefact" and "kind" in table:
        from dokimon.core.checks.file_kinds import KINDS as FILE_KINDS

        if table["kind"] not in (*FILE_KINDS, "text"):
            known = ", ".join([*FILE_KINDS, "text"])
            reading.fault((*at, "kind"), f'"{table["kind"]}" is no kind of file; there are {known}')
    if kind.name == "live change" and not ("replace" in table and "by" in table):
        reading.fault(at, 'a "change" needs the text to "replace" and the one "by" which')
    if kind.name == "service" and "port" not in table:
        reading.fault(at, 'a "service" needs the "port" that it listens on')


def _leaves(table: dict[str, Any], above: tuple[str, ...]) -> list[tuple[tuple[str, ...], Any]]:
    """Return each value in a table with the keys that lead to it."""
    found: list[tuple[tuple[str, ...], Any]] = []
    for key, value in table.items():
        inner = value if isinstance(value, list) else [value]
        for each in inner:
            found += _leaves(each, (*above, key)) if isinstance(each, dict) else [((*above, key), each)]
    return found


def _value_fault(keys: tuple[str, ...], value: Any, kind: Kind) -> str | None:
    key = keys[-1]
    if not isinstance(value, str):
        return None
    free = len(keys) > 1 and keys[0] in ("headers", "form", "json", "environment", "answer_headers")
    if free and key not in ("pattern", "number", "version"):
        return None
    try:
        if key in ("within", "again_within", "pause", "clock"):
            seconds(value)
        elif key in ("pattern", "printed"):
            check_pattern(value)
        elif key == "number":
            bounds(value, number)
        elif key == "size":
            bounds(value, any_size)
        elif key in ("get", "render") and not value.startswith("/"):
            return f'"{key}" is a path on the run itself, such as "/"; not "{value}"'
        elif key == "version":
            from dokimon.core.versions import compiled

            compiled("plain", value)
    except (ValueError, PatternFault) as wrong:
        return f'"{key}" cannot be read: {wrong}' if key == "version" else str(wrong)
    return None
