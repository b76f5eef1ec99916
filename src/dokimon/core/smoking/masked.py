"""A report without secrets: whatever brought one into it, a command line, an answer of a server or a name."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, Literal, TypeVar, get_args, get_origin

import msgspec

from dokimon.core.processes.masking import Mask

_Struct = TypeVar("_Struct", bound=msgspec.Struct)


def masked(report: _Struct, secrets: Iterable[bytes]) -> _Struct:
    """Return the report with each secret masked in each of its texts. Words of a fixed choice, as verdicts, stay."""
    mask = Mask(secrets)
    return report if mask.is_empty else _of_struct(report, mask)


def _of_struct(value: _Struct, mask: Mask) -> _Struct:
    changes = {}
    for field in msgspec.structs.fields(type(value)):
        before = getattr(value, field.name)
        after = before if _is_choice(field.type) else _of(before, mask)
        if after is not before:
            changes[field.name] = after
    return msgspec.structs.replace(value, **changes) if changes else value


def _is_choice(kind: Any) -> bool:
    return get_origin(kind) is Literal or any(_is_choice(each) for each in get_args(kind))


def _of(value: Any, mask: Mask) -> Any:
    if isinstance(value, str):
        text = mask.masked_text(value)
        return value if text == value else text
    if isinstance(value, tuple):
        return tuple(_of(each, mask) for each in value)
    if isinstance(value, dict):
        return {key: _of(each, mask) for key, each in value.items()}
    return _of_struct(value, mask) if isinstance(value, msgspec.Struct) else value
