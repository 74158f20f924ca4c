"""The OVF environment document (DSP0243 §11): how a guest learns its values."""

from __future__ import annotations

from lxml import etree

from nimble_stone.core.errors import FormatError
from nimble_stone.core.package import xml_safe

ENV = "http://schemas.dmtf.org/ovf/environment/1"


def build(node_id: str, values: dict[str, str]) -> bytes:
    """The document for one guest. Values may hold any character XML can carry."""
    root = etree.Element(f"{{{ENV}}}Environment", nsmap={None: ENV, "oe": ENV})
    root.set(f"{{{ENV}}}id", node_id)
    section = etree.SubElement(root, f"{{{ENV}}}PropertySection")
    for key in sorted(values):
        item = etree.SubElement(section, f"{{{ENV}}}Property")
        item.set(f"{{{ENV}}}key", key)
        item.set(f"{{{ENV}}}value", values[key])
    return bytes(etree.tostring(root, xml_declaration=True, encoding="UTF-8", pretty_print=True))


def parse(data: bytes) -> dict[str, str]:
    """Key → value. Raises FormatError when it is not an environment document."""
    root = xml_safe.parse(data, "the environment document")
    if etree.QName(root).namespace != ENV:
        raise FormatError(
            "not an OVF environment document", code="ovf-environment", clause="DSP0243 11"
        )
    return {
        str(item.get(f"{{{ENV}}}key")): str(item.get(f"{{{ENV}}}value") or "")
        for item in root.iter(f"{{{ENV}}}Property")
    }
