"""Descriptors as a light tree in which every element knows its line and column. Built on expat, fed
and bounded here.

A document type is refused before anything it declares is read, so there are no entities to expand
and nothing external to fetch.
Size, depth and number of elements are bounded while reading, not afterwards.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any
from xml.parsers import expat

from nimble_stone.core.errors import FormatError

MAX_BYTES = 4 << 20
MAX_DEPTH = 64
MAX_ELEMENTS = 50_000
MAX_ATTRIBUTES = 64
XML_LANG = "http://www.w3.org/XML/1998/namespace lang"


@dataclass
class Element:
    """An element: namespace, local name, attributes ('namespace name' or 'name'), children, own
    text, place.
    """

    space: str
    name: str
    attributes: dict[str, str]
    line: int
    column: int
    children: list[Element] = field(default_factory=list)
    parts: list[str] = field(default_factory=list)

    @property
    def where(self) -> str:
        """Where it stands: 'line 12, column 4, Item'."""
        return f"line {self.line}, column {self.column}, {self.name}"

    @property
    def text(self) -> str:
        """Its own text, without surrounding white space."""
        return "".join(self.parts).strip()

    def all(self, *names: str) -> Iterator[Element]:
        """Children of these local names, whatever their namespace: publishers mix versions of one
        vocabulary.
        """
        return (child for child in self.children if child.name in names)

    def first(self, name: str) -> Element | None:
        """The first child of that local name."""
        return next(self.all(name), None)

    def child_text(self, name: str) -> str:
        """Text of the first child with this name, '' when absent."""
        found = self.first(name)
        return found.text if found is not None else ""

    def attribute(self, name: str) -> str | None:
        """An attribute by local name; one of the element's own namespace is preferred, then an
        unqualified one, then any.
        """
        own = self.attributes.get(f"{self.space} {name}")
        if own is not None:
            return own
        if name in self.attributes:
            return self.attributes[name]
        return next(
            (value for key, value in self.attributes.items() if key.endswith(f" {name}")), None
        )


class _Builder:
    def __init__(self, what: str) -> None:
        self.what = what
        self.stack: list[Element] = []
        self.root: Element | None = None
        self.count = 0
        self.parser = expat.ParserCreate(namespace_separator=" ")
        self.parser.buffer_text = True
        self.parser.ordered_attributes = False
        self.parser.StartElementHandler = self.start
        self.parser.EndElementHandler = self.end
        self.parser.CharacterDataHandler = self.data
        self.parser.StartDoctypeDeclHandler = self.doctype
        self.parser.SetParamEntityParsing(expat.XML_PARAM_ENTITY_PARSING_NEVER)

    def place(self) -> str:
        return f"line {self.parser.CurrentLineNumber}, column {self.parser.CurrentColumnNumber + 1}"

    def doctype(self, *_: Any) -> None:
        raise FormatError(
            f"{self.what} declares a document type; this is refused because it can read files or"
            " fill memory",
            code="xml-dtd",
            place=self.place(),
            hint="Ask the publisher for a plain descriptor.",
        )

    def start(self, name: str, attributes: dict[str, str]) -> None:
        self.count += 1
        if (
            len(self.stack) >= MAX_DEPTH
            or self.count > MAX_ELEMENTS
            or len(attributes) > MAX_ATTRIBUTES
        ):
            raise FormatError(
                f"{self.what} is nested too deep or too large ({MAX_DEPTH} levels,"
                f" {MAX_ELEMENTS} elements, {MAX_ATTRIBUTES} attributes)",
                code="xml-too-deep",
                place=self.place(),
            )
        space, _, local = name.rpartition(" ")
        element = Element(
            space,
            local,
            attributes,
            self.parser.CurrentLineNumber,
            self.parser.CurrentColumnNumber + 1,
        )
        if self.stack:
            self.stack[-1].children.append(element)
        else:
            self.root = element
        self.stack.append(element)

    def end(self, name: str) -> None:
        self.stack.pop()

    def data(self, text: str) -> None:
        if self.stack:
            self.stack[-1].parts.append(text)


def parse(data: bytes, what: str) -> Element:
    """The root element of `data`. `what` names the document in errors. Cost: linear.

    Raises: FormatError for XML that is too large, too deep, malformed, or carries a document type.
    """
    if len(data) > MAX_BYTES:
        raise FormatError(
            f"{what} is {len(data)} bytes long; at most {MAX_BYTES} are read", code="xml-too-large"
        )
    builder = _Builder(what)
    try:
        builder.parser.Parse(data, True)
    except expat.ExpatError as error:
        raise FormatError(
            f"{what} is not well-formed XML: {expat.ErrorString(error.code)}",
            code="xml-syntax",
            place=f"line {error.lineno}, column {error.offset + 1}",
        ) from error
    except (ValueError, LookupError) as error:  # an unknown encoding
        raise FormatError(f"{what} is not well-formed XML: {error}", code="xml-syntax") from error
    if builder.root is None:
        raise FormatError(f"{what} is empty", code="xml-syntax")
    return builder.root
