"""XML with the line of each element, read by `defusedxml`: no entities are expanded, nothing else is fetched."""

from __future__ import annotations

from collections.abc import Iterator

from dokimon.core.declarations.manifest import Manifest, ManifestFault


class Element:
    """An element: its name without a namespace, its own text, its attributes, its children, its line (from 1)."""

    def __init__(self, name: str, line: int, attributes: dict[str, str]) -> None:
        self.name = name.rpartition(":")[2]
        self.line = line
        self.attributes = attributes
        self.children: list[Element] = []
        self.text = ""

    def all(self, *path: str) -> Iterator[Element]:
        """Yield the elements that lie at `path` below this one, in the order of the document."""
        for child in self.children:
            if child.name == path[0]:
                if len(path) == 1:
                    yield child
                else:
                    yield from child.all(*path[1:])

    def first(self, *path: str) -> Element | None:
        """Return the first element at `path` below this one, or None."""
        return next(self.all(*path), None)


def as_xml(manifest: Manifest) -> Element:
    """Return the root element; raises `ManifestFault`."""
    from xml.sax import SAXParseException

    from defusedxml import DefusedXmlException
    from defusedxml.sax import parseString

    from dokimon.core.declarations.xml_building import Builder

    builder = Builder()
    try:
        parseString(manifest.text.encode(), builder, forbid_dtd=False)
    except SAXParseException as wrong:
        raise ManifestFault(wrong.getLineNumber() or 1, f"is not valid XML: {wrong.getMessage()}") from None
    except DefusedXmlException:
        raise ManifestFault(1, "declares entities, which are not expanded here") from None
    except (ValueError, LookupError) as wrong:
        raise ManifestFault(1, f"is not valid XML: {wrong}") from None
    if builder.root is None:
        raise ManifestFault(1, "holds no element")
    return builder.root
