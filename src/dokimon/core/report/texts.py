"""Every text of a report changed in one way: masked, folded, or without what is private."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Literal, TypeVar, get_args, get_origin

import msgspec

_Struct = TypeVar("_Struct", bound=msgspec.Struct)


def with_texts(value: _Struct, change: Callable[[str], str], kept: frozenset[str] = frozenset()) -> _Struct:
    """Return the value with `change` made to each text in it, but for fields named in `kept` and words of a fixed choice."""
    changes = {}
    for field in msgspec.structs.fields(type(value)):
        before = getattr(value, field.name)
        after = before if field.name in kept or _is_choice(field.type) else _changed(before, change, kept)
        if after is not before:
            changes[field.name] = after
    return msgspec.structs.replace(value, **changes) if changes else value


def _is_choice(kind: Any) -> bool:
    return get_origin(kind) is Literal or any(_is_choice(each) for each in get_args(kind))


def _changed(value: Any, change: Callable[[str], str], kept: frozenset[str]) -> Any:
    if isinstance(value, str):
        text = change(value)
        return value if text == value else text
    if isinstance(value, tuple):
        return tuple(_changed(each, change, kept) for each in value)
    if isinstance(value, dict):
        return {change(key): _changed(each, change, kept) for key, each in value.items()}
    return with_texts(value, change, kept) if isinstance(value, msgspec.Struct) else value
