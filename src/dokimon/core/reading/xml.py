"""XML with the line of each element, read by expat alone: entities are refused where they are declared, nothing fetched."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, NoReturn

from dokimon.core.reading.manifest import Manifest, ManifestFault


class Element:
    """An element: its name without a namespace, its own text, its attributes, its children, its line (from 1)."""

    def __init__(self, name: str, line: int, attributes: dict[str, str]) -> None:
        self.name = name.rpartition(":")[2]
        self.line = line
        self.attributes = attributes
        self.children: list[Element] = []
        self.text = ""

    def all(self, *path: str) -> Iterator[Element]:
        """Yield the elements at `path` below this one, in the order of the document."""
        for child in self.children:
            if child.name == path[0]:
                if len(path) == 1:
                    yield child
                else:
                    yield from child.all(*path[1:])

    def first(self, *path: str) -> Element | None:
        """Return the first element at `path` below this one, or None."""
        return next(self.all(*path), None)


_DEEPEST = 200


class _Builder:
    """Makes elements of what the parser meets."""

    def __init__(self, parser: Any) -> None:
        self.root: Element | None = None
        self._open: list[Element] = []
        self._parser = parser

    def start(self, name: str, attributes: dict[str, str]) -> None:
        """An element begins."""
        element = Element(name, self._parser.CurrentLineNumber, attributes)
        if self._open:
            self._open[-1].children.append(element)
        elif self.root is None:
            self.root = element
        self._open.append(element)
        if len(self._open) > _DEEPEST:
            raise ManifestFault(element.line, "is nested too deeply")

    def text(self, content: str) -> None:
        """Text in an element, perhaps a part of it."""
        if self._open:
            self._open[-1].text += content

    def end(self, name: str) -> None:
        """An element ends."""
        self._open.pop()

    def refuse(self, *declared: object) -> NoReturn:
        """An entity is declared: what it stands for may be a thousand times as long, or lie anywhere (XML 1.0 §4)."""
        raise ManifestFault(self._parser.CurrentLineNumber, "declares entities, which are not expanded here")


def as_xml(manifest: Manifest) -> Element:
    """Return the root element; raises `ManifestFault`."""
    from xml.parsers import expat

    parser = expat.ParserCreate("utf-8")  # the text is decoded already, whatever it says of itself
    parser.buffer_text = True
    builder = _Builder(parser)
    parser.StartElementHandler, parser.EndElementHandler = builder.start, builder.end
    parser.CharacterDataHandler = builder.text
    parser.EntityDeclHandler = parser.UnparsedEntityDeclHandler = parser.ExternalEntityRefHandler = builder.refuse
    try:
        parser.Parse(manifest.text.encode(), True)
    except expat.ExpatError as wrong:
        raise ManifestFault(wrong.lineno or 1, f"is not valid XML: {expat.ErrorString(wrong.code)}") from None
    except (ValueError, LookupError) as wrong:
        raise ManifestFault(1, f"is not valid XML: {wrong}") from None
    if builder.root is None:
        raise ManifestFault(1, "has no element")
    return builder.root
