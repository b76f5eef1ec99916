"""Where a value is: in JSON, TOML or YAML by its pointer, in a page by a selector, in text by a pattern, in a header."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import msgspec

from dokimon.core.faults import Fault
from dokimon.core.patterns import PatternFault, search


class PlaceFault(Fault):
    """There is nothing at that place, or it cannot be looked for; the text says why."""


class Place(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Where to look, in one of four ways.

    `at` is a JSON Pointer (RFC 6901), `element` a CSS selector whose text is meant (or its `attribute`), `pattern` a
    regular expression whose first group is meant, `header` the name of a field of the answer.
    """

    at: str | None = None
    element: str | None = None
    attribute: str | None = None
    pattern: str | None = None
    header: str | None = None

    @property
    def in_words(self) -> str:
        """The place as a report names it."""
        if self.at is not None:
            return self.at or "the whole"
        if self.element is not None:
            return self.element + (f" [{self.attribute}]" if self.attribute else "")
        return f"a match of {self.pattern}" if self.pattern is not None else f"the header {self.header}"


def value_in(place: Place, text: str, headers: Mapping[str, str] | None = None, kind: str = "json") -> Any:
    """Return the value at `place` in `text` (of `kind` json, toml or yaml where a pointer is followed).

    Raises `PlaceFault`.
    """
    if place.header is not None:
        value = (headers or {}).get(place.header.lower())
        if value is None:
            raise PlaceFault(f"there is no header {place.header}")
        return value
    if place.at is not None:
        return pointed(parsed(text, kind), place.at)
    if place.element is not None:
        return _in_element(text, place.element, place.attribute)
    if place.pattern is not None:
        try:
            found = search(place.pattern, text)
        except PatternFault as fault:
            raise PlaceFault(str(fault)) from None
        if found is None:
            raise PlaceFault(f"nothing matches {place.pattern}")
        return found[1]
    return text.strip()


def kind_of(path: Path) -> str:
    """Return how a file of this name is read where a pointer is followed into it."""
    return {".toml": "toml", ".yaml": "yaml", ".yml": "yaml"}.get(path.suffix.lower(), "json")


def parsed(text: str, kind: str) -> Any:
    """Return the data that the text is; raises `PlaceFault`."""
    try:
        if kind == "toml":
            import tomllib

            from dokimon.core.reading.toml_lines import deep_key

            if deep_key(text):
                raise PlaceFault("it has keys of too many parts")
            return tomllib.loads(text)
        if kind == "yaml":
            import yaml

            return yaml.safe_load(text)
        return msgspec.json.decode(text.encode("utf-8", "replace"))
    except (ValueError, RecursionError) as wrong:
        raise PlaceFault(f"it is not {kind.upper()}: {str(wrong).splitlines()[0]}") from None
    except Exception as wrong:  # YAML has a class of errors of its own
        raise PlaceFault(f"it is not {kind.upper()}: {str(wrong).splitlines()[0]}") from None


def pointed(data: Any, pointer: str) -> Any:
    """Return what a JSON Pointer leads to (RFC 6901 §4); raises `PlaceFault` with the part that leads nowhere."""
    if pointer and not pointer.startswith("/"):
        raise PlaceFault(f'"{pointer}" is not a JSON Pointer: it must begin with "/"')
    for part in pointer.split("/")[1:]:
        name = part.replace("~1", "/").replace("~0", "~")
        if isinstance(data, dict):
            if name not in data:
                raise PlaceFault(f'there is nothing at {pointer}: there is no "{name}"')
            data = data[name]
        elif isinstance(data, list) and name.isdecimal() and int(name) < len(data):
            data = data[int(name)]
        elif isinstance(data, list):
            raise PlaceFault(f'there is nothing at {pointer}: a list of {len(data)} has no "{name}"')
        else:
            raise PlaceFault(f'there is nothing at {pointer}: "{name}" would be inside something that is not an object')
    return data


def _in_element(text: str, selector: str, attribute: str | None) -> str:
    from dokimon.core.checks.html import select

    found = select(text, selector)
    if not found:
        raise PlaceFault(f"no element is {selector}")
    if attribute is None:
        return found[0].get_text(" ", strip=True)
    value = found[0].get(attribute)
    if value is None:
        raise PlaceFault(f"{selector} has no attribute {attribute}")
    return " ".join(value) if isinstance(value, list) else str(value)
