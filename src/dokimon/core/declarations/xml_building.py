"""Elements made while an XML text is parsed. Apart from xml_reading.py, so that only who meets XML loads a parser."""

from __future__ import annotations

from typing import Any
from xml.sax.handler import ContentHandler
from xml.sax.xmlreader import Locator

from dokimon.core.declarations.manifest import ManifestFault
from dokimon.core.declarations.xml_reading import Element

_DEEPEST = 200


class Builder(ContentHandler):
    def __init__(self) -> None:
        super().__init__()
        self.root: Element | None = None
        self._open: list[Element] = []
        self._locator: Locator | None = None

    def setDocumentLocator(self, locator: Locator) -> None:
        self._locator = locator

    def startElement(self, name: str, attrs: Any) -> None:
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
