"""The only XML parser for foreign documents: no DTD, no entities, nothing external, bounded size
and depth.
"""

from __future__ import annotations

from lxml import etree

from nimble_stone.core.errors import FormatError

MAX_BYTES = 4 << 20
MAX_DEPTH = 64
MAX_ELEMENTS = 50_000


def parse(data: bytes, what: str) -> etree._Element:
    """The root element of `data`. `what` names the document in errors.

    Raises: FormatError for XML that is too large, too deep, malformed, or carries a document type.
    """
    if len(data) > MAX_BYTES:
        raise FormatError(
            f"{what} is {len(data)} bytes long; at most {MAX_BYTES} are read", code="xml-too-large"
        )
    if b"<!DOCTYPE" in data or b"<!ENTITY" in data:
        raise FormatError(
            f"{what} declares a document type or entities; these are refused because they can read"
            " files or fill memory",
            code="xml-dtd",
            hint="Ask the publisher for a plain descriptor.",
        )
    parser = etree.XMLParser(
        resolve_entities=False,
        no_network=True,
        load_dtd=False,
        huge_tree=False,
        remove_comments=True,
        remove_pis=True,
    )
    try:
        root = etree.fromstring(data, parser)
    except (etree.XMLSyntaxError, ValueError) as error:
        line = getattr(error, "lineno", None)
        raise FormatError(
            f"{what} is not well-formed XML: {error}",
            code="xml-syntax",
            place=f"line {line}" if line else "",
        ) from error
    if root is None or root.getroottree().docinfo.doctype:
        raise FormatError(f"{what} declares a document type", code="xml-dtd")
    _bound(root, what)
    return root


def _bound(root: etree._Element, what: str) -> None:
    stack, count = [(root, 1)], 0
    while stack:
        element, depth = stack.pop()
        count += 1
        if depth > MAX_DEPTH or count > MAX_ELEMENTS:
            raise FormatError(
                f"{what} is nested too deep or too large ({MAX_DEPTH} levels, {MAX_ELEMENTS}"
                " elements)",
                code="xml-too-deep",
                place=place(element),
            )
        stack.extend((child, depth + 1) for child in element)


def place(element: etree._Element) -> str:
    """Where an element stands, for errors: 'line 12, Item'."""
    return f"line {element.sourceline}, {etree.QName(element).localname}"


def text(element: etree._Element | None) -> str:
    """All text below an element, without surrounding white space; '' for None."""
    return "".join(str(part) for part in element.itertext()).strip() if element is not None else ""
