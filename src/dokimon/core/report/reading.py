"""A saved report read again: of this version of Dokimon, of an older or newer one of the same form, never anything else."""

from __future__ import annotations

import types
from pathlib import Path
from typing import Any, TypeVar, Union, get_args, get_origin, get_type_hints

import msgspec

from dokimon.core.faults import Fault
from dokimon.core.files import NotPlain, bytes_of_file
from dokimon.core.report.model import FORMAT, Report
from dokimon.core.text import clean

LARGEST_BYTES = 32 * 1024 * 1024
"""The largest report that tests make (300 needs, 40 runs) has less than one."""

_Kind = TypeVar("_Kind")


class ReportFault(Fault):
    """A file that is no report, or none that can be read."""


def read_report(path: Path) -> Report:
    """Return the report in a file; raises `ReportFault` with the reason where it holds none."""
    try:
        content = bytes_of_file(path, LARGEST_BYTES + 1)
    except NotPlain:
        raise ReportFault("is not a plain file", file=str(path)) from None
    except OSError as wrong:
        raise ReportFault(f"cannot be read: {wrong.strerror}", file=str(path)) from None
    if len(content) > LARGEST_BYTES:
        raise ReportFault(f"has more than {LARGEST_BYTES >> 20} MB, which no report has", file=str(path))
    try:
        return decode(content)
    except ReportFault as wrong:
        raise ReportFault(wrong.reason, file=str(path)) from None


def decode(content: bytes) -> Report:
    """Return the report in JSON text; raises `ReportFault`."""
    try:
        found = msgspec.json.decode(content)
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as wrong:
        raise ReportFault(f"is not JSON: {clean(str(wrong), 200)}") from None
    form = found.get("format") if isinstance(found, dict) else None
    if form != FORMAT:
        says = f"its format is {clean(str(form), 60)!r}" if form is not None else 'it has no key "format"'
        raise ReportFault(f"is no report that can be read here: {says}, and {FORMAT!r} is what is known")
    try:
        report: Report = _cleaned(known_part(found, Report))
        return report
    except msgspec.ValidationError as wrong:
        minor = found.get("minor")
        newer = f" (it says minor {clean(str(minor), 20)}; a newer Dokimon may read it)" if minor is not None else ""
        raise ReportFault(f"is not a whole report: {clean(str(wrong), 200)}{newer}") from None
    except RecursionError:
        raise ReportFault("is nested deeper than any report") from None


def known_part(found: Any, kind: type[_Kind]) -> _Kind:
    """Return a value of this type made of JSON's, without keys that are not known: newer versions may have added them.

    Raises `msgspec.ValidationError` where the rest does not fit.
    """
    return msgspec.convert(_known(found, kind), kind)


def _known(value: Any, kind: Any) -> Any:
    origin = get_origin(kind)
    if origin in (Union, types.UnionType):
        inner = [each for each in get_args(kind) if each is not type(None)]
        structs = [each for each in inner if get_origin(each) or isinstance(each, type)]
        return _known(value, structs[0]) if value is not None and len(structs) == 1 else value
    if isinstance(value, dict):
        if isinstance(kind, type) and issubclass(kind, msgspec.Struct):
            hints = _hints(kind)
            return {key: _known(each, hints[key]) for key, each in value.items() if key in hints}
        if origin is dict:
            inside = get_args(kind)[1]
            return {key: _known(each, inside) for key, each in value.items()}
    if isinstance(value, list) and origin in (tuple, list):
        inside = get_args(kind)[0]
        return [_known(each, inside) for each in value]
    return value


_HINTS: dict[type, dict[str, Any]] = {}


def _hints(kind: type) -> dict[str, Any]:
    if kind not in _HINTS:
        _HINTS[kind] = get_type_hints(kind)
    return _HINTS[kind]


def _cleaned(value: Any) -> Any:
    """Return a report from elsewhere with its texts made safe: what Dokimon wrote is, what somebody edited need not be."""
    if isinstance(value, str):
        return clean(value, 4000)
    if isinstance(value, tuple):
        return tuple(_cleaned(each) for each in value)
    if isinstance(value, dict):
        return {clean(str(key), 400): _cleaned(each) for key, each in value.items()}
    if isinstance(value, msgspec.Struct):
        fields = {name: getattr(value, name) for name in value.__struct_fields__}
        changed = {name: made for name, each in fields.items() if (made := _cleaned(each)) != each}
        return msgspec.structs.replace(value, **changed) if changed else value
    return value
