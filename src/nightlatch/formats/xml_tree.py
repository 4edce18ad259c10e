"""Small XML files as trees of elements, each with its place (XML 1.0). Entities and external parts are refused, not resolved.

Read only. Bounded by LARGEST and DEEPEST.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from xml.sax import SAXParseException
from xml.sax.handler import ContentHandler
from xml.sax.xmlreader import AttributesImpl, Locator

LARGEST = 1 << 20
DEEPEST = 16


class XmlFault(ValueError):
    """The bytes are no XML that is read; `line` and `column` count from 1."""

    def __init__(self, message: str, line: int, column: int) -> None:
        super().__init__(message)
        self.line, self.column = line, column


@dataclass(frozen=True, slots=True)
class Element:
    """One element: its attributes, the elements in it, and its own text without blanks around it."""

    name: str
    attributes: dict[str, str]
    line: int
    column: int
    children: tuple[Element, ...] = ()
    text: str = ""

    def get(self, name: str, other: str = "") -> str:
        """An attribute, or the other where it is missing."""
        return self.attributes.get(name, other)

    def all(self, name: str) -> tuple[Element, ...]:
        """The elements of this name right below."""
        return tuple(each for each in self.children if each.name == name)

    def first(self, name: str) -> Element | None:
        """The first of them."""
        return next(iter(self.all(name)), None)


@dataclass
class _Open:
    name: str
    attributes: dict[str, str]
    line: int
    column: int
    children: list[Element] = field(default_factory=list)
    text: list[str] = field(default_factory=list)

    def closed(self) -> Element:
        text = "".join(self.text).strip()
        return Element(self.name, self.attributes, self.line, self.column, tuple(self.children), text)


class _Handler(ContentHandler):
    def __init__(self) -> None:
        super().__init__()
        self.open: list[_Open] = []
        self.root: Element | None = None
        self.at: Locator | None = None

    def setDocumentLocator(self, locator: Locator) -> None:
        self.at = locator

    def startElement(self, name: str, attrs: AttributesImpl) -> None:
        line, column = _place(self.at)
        if len(self.open) >= DEEPEST:
            raise XmlFault("elements are nested deeper than is read", line, column)
        self.open.append(_Open(name, dict(attrs.items()), line, column))

    def characters(self, content: str) -> None:
        if self.open:
            self.open[-1].text.append(content)

    def endElement(self, name: str) -> None:
        done = self.open.pop().closed()
        if self.open:
            self.open[-1].children.append(done)
        else:
            self.root = done


def _place(at: Locator | None) -> tuple[int, int]:
    return ((at.getLineNumber() or 1), (at.getColumnNumber() or 0) + 1) if at is not None else (1, 1)


def parse(raw: bytes) -> Element:
    """The root element. Raises XmlFault."""
    from defusedxml.common import DefusedXmlException
    from defusedxml.sax import parseString

    if len(raw) > LARGEST:
        raise XmlFault("the file is larger than is read", 1, 1)
    handler = _Handler()
    try:
        parseString(raw, handler, forbid_dtd=True)
    except SAXParseException as error:
        raise XmlFault(error.getMessage(), error.getLineNumber() or 1, (error.getColumnNumber() or 0) + 1) from None
    except DefusedXmlException as error:
        raise XmlFault(f"{type(error).__name__}: entities and document types are not read", *_place(handler.at)) from None
    except (ValueError, LookupError) as error:  # LookupError: an encoding that nobody knows
        if isinstance(error, XmlFault):
            raise
        raise XmlFault(str(error), *_place(handler.at)) from None
    if handler.root is None:
        raise XmlFault("no element", 1, 1)
    return handler.root
