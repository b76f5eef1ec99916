"""YAML with the line of each value: composed into nodes by PyYAML's safe loader, never constructed into objects."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from dokimon.core.reading.manifest import Manifest, ManifestFault

_LARGEST = 1024 * 1024


class Yaml:
    """One node: a scalar with `text`, a mapping with `get` and `items`, or a sequence with `each`. `line` is from 1.

    Aliases point to the same node again; nothing is ever expanded as a whole, so that no file can grow when it is read.
    """

    def __init__(self, node: Any) -> None:
        self._node = node
        self.line: int = node.start_mark.line + 1

    @property
    def text(self) -> str | None:
        """The text of a scalar that is not empty, else None."""
        value = getattr(self._node, "value", None)
        return value if isinstance(value, str) and value and self._node.tag != "tag:yaml.org,2002:null" else None

    @property
    def value_text(self) -> str | None:
        """The text of a scalar as a program gets it: `3.10` without quotes is the number 3.1 (YAML 1.2, §10.2.1)."""
        text = self.text
        if text and self._node.tag == "tag:yaml.org,2002:float" and re.fullmatch(r"\d+\.\d+", text):
            return str(float(text))
        return text

    @property
    def is_mapping(self) -> bool:
        """Whether it is a mapping, or nothing (null), which stands for an empty one."""
        return getattr(self._node, "id", "") == "mapping" or self._node.tag == "tag:yaml.org,2002:null"

    def items(self) -> Iterator[tuple[str, Yaml]]:
        """Yield the keys (as text) and values of a mapping, nothing for any other node."""
        if getattr(self._node, "id", "") == "mapping":
            for key, value in self._node.value:
                if isinstance(key.value, str):
                    yield key.value, Yaml(value)

    def each(self) -> Iterator[Yaml]:
        """Yield the items of a sequence, nothing for any other node."""
        if getattr(self._node, "id", "") == "sequence":
            for value in self._node.value:
                yield Yaml(value)

    def get(self, *keys: str) -> Yaml | None:
        """Return the value below these keys, or None."""
        found: Yaml | None = self
        for key in keys:
            found = next((value for name, value in found.items() if name == key), None) if found else None
        return found


def as_yaml(manifest: Manifest) -> Yaml:
    """Return the root of a YAML manifest; raises `ManifestFault`. An empty document counts as not valid."""
    import yaml

    if len(manifest.text) > _LARGEST:
        raise ManifestFault(1, "is too large for a YAML file written by people")
    loader = getattr(yaml, "CSafeLoader", yaml.SafeLoader)
    try:
        node = yaml.compose(manifest.text, Loader=loader)
    except yaml.MarkedYAMLError as wrong:
        mark = wrong.problem_mark
        raise ManifestFault(mark.line + 1 if mark else 1, f"is not valid YAML: {wrong.problem}") from None
    except (yaml.YAMLError, RecursionError, ValueError) as wrong:
        raise ManifestFault(1, f"is not valid YAML: {str(wrong)[:120] or 'nested too deeply'}") from None
    if node is None:
        raise ManifestFault(1, "is empty")
    return Yaml(node)
