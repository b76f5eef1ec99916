"""XML with the line of each element, read by `defusedxml`: no entities are expanded, nothing else is fetched."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

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
    """Makes elements of what the parser meets. It has the methods of a SAX content handler without being one: the base
    class would load the parser for everybody, and most checkouts hold no XML."""

    def __init__(self) -> None:
        self.root: Element | None = None
        self._open: list[Element] = []
        self._locator: Any = None

    def setDocumentLocator(self, locator: Any) -> None:
        self._locator = locator

    def startElement(self, name: str, attrs: Mapping[str, str]) -> None:
        line = self._locator.getLineNumber() if self._locator else 1
        element = Element(name, line or 1, dict(attrs.items()))
        if self._open:
            self._open[-1].children.append(element)
        elif self.root is None:
            self.root = element
        self._open.append(element)
        if len(self._open) > _DEEPEST:
            raise ManifestFault(element.line, "is nested too deeply")

    def characters(self, content: str) -> None:
        if self._open:
            self._open[-1].text += content

    def endElement(self, name: str) -> None:
        self._open.pop()

    def startDocument(self) -> None:
        """A document begins: nothing to do."""

    endDocument = startDocument

    def processingInstruction(self, target: str, data: str) -> None:
        """What a document says to other programs is none of our business."""

    def ignorableWhitespace(self, whitespace: str) -> None:
        """White space between elements says nothing."""

    skippedEntity = ignorableWhitespace


def as_xml(manifest: Manifest) -> Element:
    """Return the root element; raises `ManifestFault`."""
    from xml.sax import SAXParseException

    from defusedxml import DefusedXmlException
    from defusedxml.sax import parseString

    builder: Any = _Builder()
    try:
        parseString(manifest.text.encode(), builder, forbid_dtd=False)
    except SAXParseException as wrong:
        raise ManifestFault(wrong.getLineNumber() or 1, f"is not valid XML: {wrong.getMessage()}") from None
    except DefusedXmlException:
        raise ManifestFault(1, "declares entities, which are not expanded here") from None
    except (ValueError, LookupError) as wrong:
        raise ManifestFault(1, f"is not valid XML: {wrong}") from None
    root: Element | None = builder.root
    if root is None:
        raise ManifestFault(1, "has no element")
    return root
